import { execFile } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { scannerServer, TEST_SIGNATURE } from './server.js';

const server = scannerServer();
const folder = mkdtempSync(join(tmpdir(), 'scanner-'));
let port = 0;
beforeAll(async () => {
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  port = (server.address() as AddressInfo).port;
  writeFileSync(join(folder, 'clamd.conf'), `TCPSocket ${port}\nTCPAddr 127.0.0.1\n`);
});
afterAll(async () => {
  await new Promise((resolve) => server.close(resolve));
  rmSync(folder, { recursive: true, force: true });
});

/** Debian's clamdscan, the client of clamd's own makers. @returns what it says */
const clamdscan = (name: string, bytes: string | Buffer) => {
  const file = join(folder, name);
  writeFileSync(file, bytes);
  return new Promise<string>((resolve) =>
    execFile('clamdscan', ['--config-file', join(folder, 'clamd.conf'), '--stream', file], (_error, out) =>
      resolve(out),
    ),
  );
};

it('answers the client of clamd’s makers as clamd does', async () => {
  expect(await clamdscan('clean.txt', 'nothing')).toContain('clean.txt: OK');
  expect(await clamdscan('found.txt', TEST_SIGNATURE)).toContain('found.txt: Quay.Test.Signature FOUND');
  const across = Buffer.concat([Buffer.alloc(1_000_000, 'x'), Buffer.from(TEST_SIGNATURE), Buffer.alloc(500_000)]);
  expect(await clamdscan('across.bin', across)).toContain('FOUND');
});
