import type { Running } from './net.js';
import { WORLD, type Network } from './network.js';
import { TSIG, ZONE } from './services.js';

/** A program that changes the zone by nsupdate (Debian's): what an office's own hook might be. */
export function updateProgram(on: { file: (name: string, text: string) => string }): string {
  const key = `hmac-sha256:${TSIG.name}:${TSIG.secret}`;
  return on.file(
    'hook',
    `#!/bin/sh
case "$1" in
  set) more="update add $2 $5 $3 $4" ;;
  remove) more= ;;
  *) echo "no such word: $1" >&2; exit 2 ;;
esac
printf 'server ${WORLD.names}\nzone ${ZONE}\nupdate delete %s %s\n%s\nsend\n' "$2" "$3" "$more" | nsupdate -y '${key}'
`,
  );
}

/** A small service of names over HTTPS, as providers have it: user and secret as HTTP does it, an answer of one word. */
export function startUpdates(
  { world }: Network,
  certificate: { chain: string; key: string },
  secret: string,
): Promise<Running> {
  const hook = updateProgram(world);
  const script = world.file(
    'updates.mjs',
    `import { createServer } from 'node:https';
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
const wanted = 'Basic ' + Buffer.from('office:${secret}').toString('base64');
createServer({ cert: readFileSync('${certificate.chain}'), key: readFileSync('${certificate.key}') }, (req, res) => {
  const asked = new URL(req.url, 'https://here').searchParams;
  if (req.headers.authorization !== wanted) return res.writeHead(401).end('badauth');
  execFileSync('sh', ['${hook}', 'set', asked.get('hostname'), 'A', asked.get('myip'), '60']);
  res.end('good ' + asked.get('myip'));
}).listen(443, '${WORLD.elsewhere}', () => console.log('ready'));
`,
  );
  return world.start(process.execPath, [script], { ready: /ready/ });
}
