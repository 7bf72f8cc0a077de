import 'reflect-metadata';
import type { Health } from '@quay/contract';
import { onTheMachine } from '../settled.js';
import { HealthService } from './health.service.js';

const MARKS = { ok: 'ok  ', warn: 'LOOK', fail: 'FAIL', unknown: '?   ' } as const;
const EXIT = { ok: 0, warn: 0, fail: 1 } as const;

function show({ lines, mark }: Health, asJson: boolean): void {
  if (asJson) return console.log(JSON.stringify({ mark, lines }, null, 2));
  for (const line of lines) {
    console.log(`${MARKS[line.mark]}  ${line.words}`);
    if (line.remedy !== null) console.log(`      ${line.remedy}`);
  }
}

/** ./quay doctor [--json]. @returns the exit code: 1 when something fails */
async function main(args: string[]): Promise<number> {
  let mark: Health['mark'] = 'fail';
  const ended = await onTheMachine(async (app) => {
    const health = await app.get(HealthService).look();
    show(health, args.includes('--json'));
    mark = health.mark;
  });
  return ended || EXIT[mark];
}

process.exitCode = await main(process.argv.slice(2)).catch((error: Error) => {
  console.error(`FAIL  Nothing could be looked at: ${error.message}.`);
  console.error('      See whether the database runs, and whether this program is the one that made it.');
  return 1;
});
