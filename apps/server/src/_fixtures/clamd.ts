import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { connect } from 'node:net';
import { chmodSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { freePort } from './free-port.js';

/** The test file of scanners (eicar.org), put together so that no scanner stops at this one. */
export const TEST_FILE = Buffer.from(
  ['X5O!P%@AP[4\\PZX54(P^)7CC)7}', '$EICAR-STANDARD-ANTIVIRUS-', 'TEST-FILE!$H+H*'].join(''),
);

/** Debian's clamd, with a database that knows the test file alone. */
export interface Clamd {
  port: number;
  stop: () => Promise<void>;
}

export async function startClamd({ mostMegabytes = 25, port: wished = 0 } = {}): Promise<Clamd> {
  const folder = mkdtempSync(join(tmpdir(), 'quay-clamd-'));
  const database = join(folder, 'database');
  mkdirSync(database);
  // The SHA-256 of a file, its size and a name (ClamAV's documentation, file hash signatures).
  const hash = createHash('sha256').update(TEST_FILE).digest('hex');
  writeFileSync(join(database, 'test.hsb'), `${hash}:${TEST_FILE.length}:Quay.Test.File\n`);
  const port = wished || (await freePort());
  writeFileSync(
    join(folder, 'clamd.conf'),
    [
      ...[`TCPSocket ${port}`, 'TCPAddr 127.0.0.1', `DatabaseDirectory ${database}`, 'Foreground yes'],
      ...[`StreamMaxLength ${mostMegabytes}M`, `LogFile ${join(folder, 'log')}`, `TemporaryDirectory ${folder}`],
    ].join('\n'),
  );
  chmodSync(folder, 0o755);
  const clamd = spawn('clamd', ['--config-file', join(folder, 'clamd.conf')], { stdio: 'ignore' });
  const ended = new Promise<void>((resolve) => clamd.once('exit', () => resolve()));
  for (let tries = 0; !(await listens(port)); tries += 1) {
    if (tries > 600 || clamd.exitCode !== null) throw new Error(`clamd did not start (${join(folder, 'log')})`);
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  return {
    port,
    stop: async () => {
      clamd.kill('SIGKILL');
      await ended;
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

const listens = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connect(port, '127.0.0.1', () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => resolve(false));
  });
