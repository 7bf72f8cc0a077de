import type { Accepted, IntakeSheet } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { startClamd, TEST_FILE, type Clamd } from '../_fixtures/clamd.js';
import { askForFiles, handIn, outsider, sendFile } from '../_fixtures/intakes.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { scanBy } from './clamd.js';
import { ScannerService } from './scanner.service.js';

let office: TestOffice;
let clamd: Clamd;
let iris: Client;
let into: string;
beforeAll(async () => {
  clamd = await startClamd({ mostMegabytes: 2 });
  office = await openOffice({ scanner: { host: '127.0.0.1', port: clamd.port } });
  iris = await office.signedIn('iris');
  into = await folder(iris, office.roots.projects, 'Scanned');
}, 120_000);
afterAll(async () => {
  await office.close();
  await clamd.stop();
});

const sheetOf = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;
const scansOf = async (id: string) => {
  office.app.get(ScannerService).hurry();
  return (await sheetOf(id)).handedIn.flatMap((d) => d.files.map((f) => f.scan));
};

async function handed(token: string, files: Record<string, Buffer>): Promise<void> {
  const somebody = await outsider(office, token);
  for (const [name, bytes] of Object.entries(files)) await sendFile(somebody, name, bytes);
  expect((await handIn(somebody)).status).toBe(200);
}

// Debian's clamd (clamav-daemon), with a signature of the test file (eicar.org) alone.
describe('the scanner', () => {
  it('finds the test file, and nothing elsewhere; what is too large for it is said', async () => {
    const place = { host: '127.0.0.1', port: clamd.port };
    const whole = (bytes: Buffer, piece: number) =>
      async function* () {
        for (let at = 0; at < bytes.length; at += piece) yield bytes.subarray(at, at + piece);
      };
    expect(await scanBy(place, whole(TEST_FILE, 7))).toEqual({ scan: 'found', finding: expect.any(String) as string });
    expect(await scanBy(place, whole(randomBytes(1_000_000), 65_536))).toEqual({ scan: 'clean' });
    expect(await scanBy(place, whole(Buffer.alloc(0), 1))).toEqual({ scan: 'clean' });
    // Whether its words or the end of the line come first is chance.
    for (let n = 0; n < 20; n += 1)
      expect(await scanBy(place, whole(randomBytes(4_000_000), 65_536))).toEqual({ scan: 'too-large' });
  });

  it('keeps what it finds from being accepted, and lets the rest in', async () => {
    const intake = await askForFiles(iris, into);
    await handed(intake.token, { 'note.txt': TEST_FILE, 'levels.csv': Buffer.from('a,b\n1,2\n') });
    await vi.waitFor(async () => expect((await scansOf(intake.id)).sort()).toEqual(['clean', 'found']), 60_000);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    const found = deposit?.files.find((f) => f.scan === 'found');
    const accept = (body: object) =>
      iris.ask<Accepted & { code: string }>('POST', `/api/deposits/${deposit?.id}/accept`, body);
    expect((await accept({ fileIds: [found?.id] })).body.code).toBe('deposit.found');
    expect((await accept({})).body.accepted).toBe(1);
    expect((await iris.ask('POST', `/api/deposits/${deposit?.id}/refuse`, { reason: 'Infected.' })).status).toBe(200);
  });

  it('is waited for while it is away: nothing goes in before, also not by rule', async () => {
    const intake = await askForFiles(iris, into, { waits: false });
    const { port } = clamd;
    await clamd.stop();
    await handed(intake.token, { 'later.csv': Buffer.from('c,d\n3,4\n') });
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    expect(deposit).toMatchObject({ state: 'waiting', files: [{ scan: null }] });
    const refused = await iris.ask<{ code: string }>('POST', `/api/deposits/${deposit?.id}/accept`, {});
    expect(refused.body.code).toBe('deposit.not-scanned');
    clamd = await startClamd({ port });
    // As each hour, in case that its job was given up meanwhile.
    await office.app.get(Housekeeping).tidy();
    await vi.waitFor(
      async () => {
        office.app.get(ScannerService).hurry();
        expect((await sheetOf(intake.id)).handedIn[0]?.state).toBe('accepted');
      },
      { timeout: 90_000, interval: 500 },
    );
  }, 150_000);
});
