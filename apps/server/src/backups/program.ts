import 'reflect-metadata';
import { DataSource } from 'typeorm';
import { checkRows } from '../check/invariants.js';
import { configFromEnvironment } from '../platform/config.js';
import { migrate, trialOptions } from '../platform/database/database.js';
import { sourceOf, type SourceOrder } from './source.js';
import { bringBack, type BringOrder, type Brought } from './copying/bring.js';
import { faultOf } from './copying/fault.js';
import { makeBackup, type Made, type MakeOrder, type Source, type Step } from './copying/make.js';
import { rehearse, type Judge, type Rehearsed, type RehearseOrder } from './copying/rehearse.js';
import { identitiesOf, openerWith, ownIdentity } from './copying/sealer.js';

export type Order =
  /** Without a source it is that of the environment. */
  | { kind: 'make'; source: SourceOrder | null; make: MakeOrder }
  | { kind: 'rehearse'; source: SourceOrder; rehearse: RehearseOrder }
  | { kind: 'bring'; bring: BringOrder | Here; identityFiles: string[] };
/** Into the places of the environment: an empty database is named already. */
type Here = Pick<BringOrder, 'source' | 'stamp'>;
export type Answer = Made | Rehearsed | Brought;
export type Said = { step: Step } | { done: Answer } | { failed: { code: string; words: string } };

/** What is told of progress is seen by people. */
const TOLD_EVERY_MS = 500;

const judge: Judge = async (databaseUrl) => {
  const db = await new DataSource(trialOptions(databaseUrl)).initialize();
  try {
    await migrate(db);
    const [row] = await db.query<{ versions: number }[]>('SELECT count(*)::int AS versions FROM file_version');
    const broken = await checkRows(db);
    return { broken: [...new Set(broken.map((v) => v.rule))], versions: row?.versions ?? 0 };
  } finally {
    await db.destroy();
  }
};

const known = async ({ identityFile, ...source }: SourceOrder): Promise<Source> => ({
  ...source,
  identity: await ownIdentity(identityFile),
});

function obey(order: Order, tell: (step: Step) => void): Promise<Answer> {
  switch (order.kind) {
    case 'make':
      return known(order.source ?? sourceOf(configFromEnvironment(process.env))).then((source) =>
        makeBackup(source, order.make, tell),
      );
    case 'rehearse':
      return known(order.source).then((source) => rehearse(source, order.rehearse, judge, tell));
    case 'bring':
      return Promise.all(order.identityFiles.map(identitiesOf)).then((found) =>
        bringBack(
          'databaseUrl' in order.bring
            ? order.bring
            : { ...sourceOf(configFromEnvironment(process.env)), ...order.bring },
          openerWith(found.flat()),
          tell,
        ),
      );
  }
}

/** A process of its own: it takes one order, says how far it is, ends with an answer, and with whoever started it. */
async function main(): Promise<void> {
  const order = await new Promise<Order>((resolve) => process.once('message', (asked) => resolve(asked as Order)));
  process.on('disconnect', () => process.exit(1));
  const say = (said: Said) => new Promise<void>((resolve) => process.send?.(said, () => resolve()));
  let step: Step = { words: 'Begins', done: 0, total: null, bytes: 0 };
  // Said again and again while one thing takes long: whoever hears it may want this to end.
  const telling = setInterval(() => process.send?.({ step } satisfies Said), TOLD_EVERY_MS);
  try {
    await say({ done: await obey(order, (next) => (step = next)) });
  } catch (error) {
    const { code, message } = faultOf(error);
    await say({ failed: { code, words: message } });
  }
  clearInterval(telling);
  process.exit(0);
}

await main();
