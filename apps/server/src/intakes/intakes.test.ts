import type { Accepted, DepositRow, IntakeDoor, IntakeList, IntakeRow, IntakeSheet } from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, mkdirSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import {
  askForFiles,
  doorOf,
  fileRefused,
  handIn,
  intakeAsked,
  outsider,
  sendFile,
  type Outsider,
} from '../_fixtures/intakes.js';
import { endGrants, grantOn, setInherits } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { Housekeeping } from '../platform/housekeeping.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let into: string;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  into = await folder(iris, office.roots.projects, 'Photographs');
});
afterAll(() => office.close());

const PASSWORD = 'gravel-heron-silent-oar';
const sheetOf = async (id: string, by = iris) => (await by.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;
const namesIn = async (id: string) =>
  (await iris.ask<{ items: { name: string; id: string }[] }>('GET', `/api/folders/${id}`)).body.items;
const sha256 = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');

/** Hands one file in. */
async function handed(token: string, name: string, bytes: Buffer): Promise<Outsider> {
  const somebody = await outsider(office, token);
  await sendFile(somebody, name, bytes);
  expect((await handIn(somebody, { name: 'Zoe Calder' })).status).toBe(200);
  return somebody;
}

describe('an intake', () => {
  it('takes files and whole folders, gives a receipt, and puts what is accepted into the folder', async () => {
    const intake = await askForFiles(iris, into, { password: PASSWORD, title: 'Weir House' });
    expect(intake.sentence.map((p) => p.text).join('')).toContain('with the link and the password can hand in');
    const zoe = await outsider(office, intake.token, PASSWORD);
    const [north, south] = [randomBytes(90_000), randomBytes(10)];
    await sendFile(zoe, 'north.bin', north, 'Weir House/Day 1');
    await sendFile(zoe, 'south.bin', south);
    expect((await doorOf(zoe)).inside?.files).toMatchObject([
      { path: 'Weir House/Day 1/north.bin', sizeBytes: 90_000, here: true },
      { path: 'south.bin', here: true },
    ]);
    const { body: receipt } = await handIn(zoe, { name: 'Zoe Calder' });
    expect(receipt).toMatchObject({ files: 2, bytes: 90_010, state: 'waiting' });
    expect(receipt.number).toMatch(/^D-[0-9A-Z]{4}-[0-9A-Z]{4}$/);
    // Nothing is in the folder yet, and no outsider can fetch what they handed in.
    expect(await namesIn(into)).toEqual([]);
    const { handedIn } = await sheetOf(intake.id);
    expect(handedIn).toMatchObject([{ number: receipt.number, who: 'Zoe Calder', fileCount: 2, state: 'waiting' }]);
    const deposit = handedIn[0] as DepositRow;
    const { body } = await iris.ask<Accepted>('POST', `/api/deposits/${deposit.id}/accept`, {
      fileIds: deposit.files.map((f) => f.id),
    });
    expect(body).toMatchObject({ accepted: 2, left: [], deposit: { state: 'accepted' } });
    const day = office.clock.date().toISOString().slice(0, 10);
    const [theirs] = await namesIn(into);
    expect(theirs?.name).toBe(`${day} Zoe Calder`);
    const below = await namesIn(theirs?.id ?? '');
    expect(below.map((n) => n.name).sort()).toEqual(['Weir House', 'south.bin']);
    const put = below.find((n) => n.name === 'south.bin');
    const got = await iris.fetch(`/api/files/${put?.id}/content`);
    expect(Buffer.from(await got.arrayBuffer()).equals(south)).toBe(true);
    // Who brought it is the contributor, in the ledger and in the past of the file.
    const [entry] = await office.db.query<{ actor_name: string; detail: { receipt: string } }[]>(
      `SELECT actor_name, detail FROM ledger_entry WHERE kind = 'deposit.handed-in' ORDER BY seq DESC LIMIT 1`,
    );
    expect(entry?.actor_name).toBe('Zoe Calder');
    expect(entry?.detail.receipt).toMatch(/^[0-9a-f]{64}$/);
  });

  it('has a receipt that sha256sum checks (GNU coreutils), that tells no other link anything', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    const files = { 'a b.bin': randomBytes(50), 'back\\slash.txt': randomBytes(60), 'ü.txt': randomBytes(3) };
    for (const [name, bytes] of Object.entries(files)) await sendFile(somebody, name, bytes, 'Site');
    const { path } = (await handIn(somebody)).body;
    const at = mkdtempSync(join(tmpdir(), 'quay-receipt-'));
    for (const file of (await sheetOf(intake.id)).handedIn[0]?.files ?? []) {
      const bytes = Object.values(files).find((b) => sha256(b) === file.sha256) as Buffer;
      mkdirSync(dirname(join(at, file.path)), { recursive: true });
      writeFileSync(join(at, file.path), bytes);
    }
    const sums = await (await office.client().fetch(`/h/${intake.token}/${path}/SHA256SUMS`)).text();
    writeFileSync(join(at, 'sums'), sums);
    const said = execFileSync('sha256sum', ['--check', 'sums'], { cwd: at, encoding: 'utf8' });
    expect(said.match(/: OK$/gm)).toHaveLength(3);
    const page = await office.client().fetch(`/h/${intake.token}/${path}`);
    expect(page.status).toBe(200);
    expect(await page.text()).toContain(sha256(files['a b.bin']));
    const other = await askForFiles(iris, into);
    for (const wrong of [`/h/${other.token}/${path}`, `/h/${intake.token}/${path}x`, `/h/${intake.token}/receipt/x`])
      expect((await office.client().fetch(wrong)).status).toBe(404);
  });

  it('is not opened without its password, when it is closed, withdrawn or its folder gone; nor is an unknown link', async () => {
    const intake = await askForFiles(iris, into, { password: PASSWORD });
    const begin = (token: string, password: string | null) =>
      office.client().ask<{ code: string }>('POST', `/h/${token}/begin`, { password });
    expect((await begin(intake.token, null)).body.code).toBe('intake.password-needed');
    expect((await begin(intake.token, 'wrong')).body.code).toBe('intake.wrong-password');
    expect((await begin('nothing', null)).body.code).toBe('intake.not-found');
    const before = (await office.client().ask<IntakeDoor>('GET', `/h/${intake.token}/door`)).body;
    expect(before).toMatchObject({ needsPassword: true, inside: null });
    const somebody = await outsider(office, intake.token, PASSWORD);
    // Another password ends what was begun by the one before.
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { password: 'weir-lantern-copper-tide' });
    expect(await fileRefused(somebody, 'a.txt')).toBe('intake.not-begun');
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true });
    expect((await begin(intake.token, PASSWORD)).body.code).toBe('intake.withdrawn');
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: false });
    const gone = await folder(iris, office.roots.projects, 'Gone');
    const other = await askForFiles(iris, gone);
    await iris.ask('POST', '/api/trash', { nodeIds: [gone] });
    expect((await begin(other.token, null)).body.code).toBe('intake.broken');
    expect((await iris.ask<IntakeList>('GET', '/api/intakes')).body.intakes.find((i) => i.id === other.id)?.state).toBe(
      'broken',
    );
    const purged = await iris.ask<{ code: string }>('POST', '/api/trash/purge', { nodeIds: [gone] });
    expect(JSON.stringify(purged.body)).toContain('still needs it');
  });

  it('lets what was begun before it closed be finished within an hour, and nothing else', async () => {
    const closesAt = new Date(office.clock.now() + 60_000).toISOString();
    const intake = await askForFiles(iris, into, { window: { opensAt: null, closesAt } });
    const somebody = await outsider(office, intake.token);
    office.clock.advance(120_000);
    expect(
      (await office.client().ask<{ code: string }>('POST', `/h/${intake.token}/begin`, { password: null })).body.code,
    ).toBe('intake.closed');
    expect((await doorOf(somebody)).inside?.finishBy).toBe(new Date(Date.parse(closesAt) + 3_600_000).toISOString());
    await sendFile(somebody, 'late.txt', Buffer.from('late'));
    office.clock.advance(3_600_000);
    expect(await fileRefused(somebody, 'too late.txt')).toBe('intake.closed');
    expect((await handIn(somebody)).body.code).toBe('intake.closed');
  });

  it('keeps to its limits before a byte moves, and counts what is on its way', async () => {
    const limits = { fileBytes: 2000, files: 3, contributorBytes: 5000, allBytes: 8000, kinds: ['pdf'] };
    iris = await office.signedIn('iris');
    tomas = await office.signedIn('tomas');
    const intake = await askForFiles(iris, into, { limits });
    const somebody = await outsider(office, intake.token);
    expect(await fileRefused(somebody, 'large.pdf', randomBytes(2001))).toBe('intake.file-too-large');
    expect(await fileRefused(somebody, 'site.jpg')).toBe('intake.kind');
    expect(await fileRefused(somebody, 'site')).toBe('intake.kind');
    for (const name of ['1.pdf', '2.pdf']) await sendFile(somebody, name, randomBytes(2000));
    expect(await fileRefused(somebody, '1.pdf')).toBe('intake.same-name');
    expect(await fileRefused(somebody, '3.pdf', randomBytes(1500))).toBe('intake.too-much');
    await sendFile(somebody, '3.pdf', randomBytes(100));
    expect(await fileRefused(somebody, '4.pdf')).toBe('intake.too-many-files');
    const other = await outsider(office, intake.token);
    for (const name of ['1.pdf', '2.pdf']) expect(await fileRefused(other, name, randomBytes(1900))).toBe('taken in');
    expect(await fileRefused(other, '3.pdf', randomBytes(1000))).toBe('intake.full');
    // What is taken back is not counted any more.
    const files = (await doorOf(other)).inside?.files ?? [];
    const head = { 'Tus-Resumable': '1.0.0' };
    await other.client.fetch(`/h/${intake.token}/uploads/${files[0]?.id}`, { method: 'DELETE', headers: head });
    expect(await fileRefused(other, '3.pdf', randomBytes(1000))).toBe('taken in');
  });

  it('closes no gap in names: what leads elsewhere or passes for something else is mended', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    await sendFile(somebody, 'photo\u202Egpj.txt', Buffer.from('x'), '../../etc');
    await sendFile(somebody, `${'é'.repeat(300)}.txt`, Buffer.from('y'));
    const paths = (await doorOf(somebody)).inside?.files.map((f) => f.path) ?? [];
    expect(paths.join()).not.toMatch(/\.\.\/|\u202E/);
    for (const path of paths) for (const part of path.split('/')) expect(Buffer.byteLength(part)).toBeLessThan(256);
  });

  it('goes straight in by a rule of kind, size and who it is from; what does not meet it waits whole', async () => {
    const straight = await folder(iris, office.roots.projects, 'Straight by rule');
    const rule = { kinds: ['text'], fileBytes: 1000, provenOnly: false };
    const intake = await askForFiles(iris, straight, { waits: false, folderPattern: null, straight: rule });
    expect(intake.sentence.map((p) => p.text).join('')).toMatch(
      /; only text and tables of at most 1 kB go straight in, the rest waits to be accepted\.$/,
    );
    const levels = Buffer.from('point,height\nA,12.3\n');
    await handed(intake.token, 'levels.csv', levels);
    const long = await outsider(office, intake.token);
    await sendFile(long, 'short.csv', levels);
    await sendFile(long, 'long.csv', Buffer.concat(Array<Buffer>(60).fill(levels)));
    await handIn(long);
    await handed(intake.token, 'plan.pdf', Buffer.from('%PDF-1.7\n%%EOF\n'));
    expect((await namesIn(straight)).map((n) => n.name)).toEqual(['levels.csv']);
    expect((await sheetOf(intake.id)).handedIn.map((d) => d.state)).toEqual(['waiting', 'waiting', 'accepted']);
    // A rule for the proven lets in nothing of those who are not; without one, everything goes.
    const change = (part: object) =>
      iris.ask<IntakeSheet & { code?: string }>('PATCH', `/api/intakes/${intake.id}`, part);
    expect((await change({ straight: { kinds: null, fileBytes: null, provenOnly: true } })).status).toBe(200);
    await handed(intake.token, 'more.csv', levels);
    expect((await namesIn(straight)).map((n) => n.name)).toEqual(['levels.csv']);
    expect((await change({ straight: { kinds: null, fileBytes: null, provenOnly: false } })).status).toBe(400);
    expect((await change({ straight: { ...rule, kinds: [] } })).status).toBe(400);
    expect((await change({ straight: null })).body.straight).toBeNull();
    await handed(intake.token, 'all.csv', levels);
    expect((await namesIn(straight)).map((n) => n.name).sort()).toEqual(['all.csv', 'levels.csv']);
  });

  it('goes straight in where it may and is what it says; what is not waits, and is only accepted by name', async () => {
    const straight = await folder(iris, office.roots.projects, 'Straight');
    const intake = await askForFiles(iris, straight, { waits: false, folderPattern: null });
    await handed(intake.token, 'levels.csv', Buffer.from('point,height\nA,12.3\n'));
    expect((await namesIn(straight)).map((n) => n.name)).toEqual(['levels.csv']);
    // Portable Executable files begin with MZ (PE/COFF specification).
    const program = Buffer.concat([Buffer.from('MZ\x90\0\x03\0\0\0'), Buffer.alloc(200)]);
    await handed(intake.token, 'site.jpg', program);
    expect((await namesIn(straight)).map((n) => n.name)).toEqual(['levels.csv']);
    const [waiting] = (await sheetOf(intake.id)).handedIn;
    expect(waiting).toMatchObject({
      state: 'waiting',
      files: [{ verdict: 'program', words: 'site.jpg is a program' }],
    });
    const accept = (body: object) => iris.ask<{ code: string }>('POST', `/api/deposits/${waiting?.id}/accept`, body);
    expect((await accept({})).body.code).toBe('deposit.decided');
    expect((await accept({ fileIds: [waiting?.files[0]?.id] })).status).toBe(200);
    expect((await accept({ fileIds: [waiting?.files[0]?.id] })).body.code).toBe('deposit.decided');
    // So does what would fill a disk once it is unpacked.
    await handed(intake.token, 'levels.gz', gzipSync(Buffer.alloc(60_000_000)));
    expect((await sheetOf(intake.id)).handedIn[0]).toMatchObject({
      state: 'waiting',
      files: [{ verdict: 'bomb', words: expect.stringMatching(/^levels.gz unpacks from .* to 60 MB$/) as string }],
    });
  });

  it('lets what was handed in be looked at by those who may decide, until they have, and by nobody else', async () => {
    const intake = await askForFiles(iris, into);
    const bytes = randomBytes(300_000);
    const somebody = await handed(intake.token, 'cloud.bin', bytes);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    const url = `/api/deposits/${deposit?.id}/files/${deposit?.files[0]?.id}/content`;
    const got = await iris.fetch(url);
    expect(Buffer.from(await got.arrayBuffer()).equals(bytes)).toBe(true);
    expect(got.headers.get('content-disposition')).toContain('attachment');
    expect((await tomas.fetch(url)).status).toBe(404);
    expect((await somebody.client.fetch(url)).status).toBe(401);
    // Before it is decided, nothing removes its bytes; once it is refused, they go.
    await office.app.get(BlobKeeper).collect();
    const at = () =>
      office.db.query<unknown[]>('SELECT 1 FROM blob WHERE sha256 = $1', [Buffer.from(sha256(bytes), 'hex')]);
    expect(await at()).toHaveLength(1);
    const refused = await iris.ask<DepositRow>('POST', `/api/deposits/${deposit?.id}/refuse`, { reason: 'Too dark.' });
    expect(refused.body).toMatchObject({ state: 'refused', reason: 'Too dark.', files: [{ decided: 'refused' }] });
    expect((await iris.fetch(url)).status).toBe(410);
    await office.app.get(BlobKeeper).collect();
    expect(await at()).toHaveLength(0);
    expect((await doorOf(somebody)).inside?.receipts).toMatchObject([{ state: 'refused', files: 1 }]);
  });

  it('counts what waits against quotas, and no longer than it waits', async () => {
    const [{ id: store } = { id: '' }] = await office.db.query<{ id: string }[]>(
      'SELECT store_id AS id FROM node WHERE id = $1',
      [into],
    );
    const [{ used } = { used: 0 }] = await office.db.query<{ used: number }[]>(
      'SELECT used_bytes::float8 AS used FROM store WHERE id = $1',
      [store],
    );
    const held = async () =>
      (
        await office.db.query<{ sum: number }[]>(
          'SELECT coalesce(sum(held_bytes), 0)::float8 AS sum FROM room_held WHERE store_id = $1',
          [store],
        )
      )[0]?.sum ?? 0;
    const before = await held();
    await office.db.query('UPDATE store SET quota_bytes = $2 WHERE id = $1', [store, used + before + 100_000]);
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    await sendFile(somebody, 'a.bin', randomBytes(70_000));
    expect(await held()).toBe(before + 70_000);
    expect(await fileRefused(somebody, 'b.bin', randomBytes(70_000))).toBe('intake.full');
    await handIn(somebody);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    const fileIds = deposit?.files.map((f) => f.id);
    expect((await iris.ask('POST', `/api/deposits/${deposit?.id}/accept`, { fileIds })).status).toBe(200);
    expect(await held()).toBe(before);
    await office.db.query('UPDATE store SET quota_bytes = NULL WHERE id = $1', [store]);
  });

  it('knows a browser that hands in more, and forgets after a day what was begun and not handed in', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await handed(intake.token, 'first.txt', Buffer.from('1'));
    await somebody.client.ask('POST', `/h/${intake.token}/begin`, { password: null });
    await sendFile(somebody, 'second.txt', Buffer.from('2'));
    await handIn(somebody, { name: 'Zoe Calder' });
    expect((await doorOf(somebody)).inside?.receipts).toHaveLength(2);
    expect((await sheetOf(intake.id)).handedIn.map((d) => d.again)).toEqual([true, false]);
    expect((await sheetOf(intake.id)).overTime).toMatchObject({ step: 'hour', bars: [{ all: 2, full: 0 }] });
    const idle = await outsider(office, intake.token);
    await sendFile(idle, 'never.txt', Buffer.from('3'));
    office.clock.advance(25 * 3_600_000);
    await office.app.get(Housekeeping).tidy();
    expect(await office.db.query('SELECT 1 FROM deposit WHERE state = $1', ['arriving'])).toEqual([]);
    iris = await office.signedIn('iris');
    tomas = await office.signedIn('tomas');
    expect((await sheetOf(intake.id)).handedIn).toHaveLength(2);
  });

  it('lets whoever handed in by its password hand in more, until it has another', async () => {
    const intake = await askForFiles(iris, into, { password: PASSWORD });
    const somebody = await outsider(office, intake.token, PASSWORD);
    await sendFile(somebody, 'one.txt', Buffer.from('1'));
    await handIn(somebody);
    const begin = () => somebody.client.ask<{ code?: string }>('POST', `/h/${intake.token}/begin`, { password: null });
    expect((await begin()).status).toBe(200);
    await sendFile(somebody, 'two.txt', Buffer.from('2'));
    expect((await handIn(somebody)).status).toBe(200);
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { password: 'weir-lantern-copper-tide' });
    expect((await begin()).body.code).toBe('intake.password-needed');
    expect((await doorOf(somebody)).inside).toBeNull();
  });

  it('is closed to whoever made it once the folder is, who can still withdraw it', async () => {
    const ended = await folder(iris, office.roots.projects, 'Ended');
    const [person] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'rosa'`);
    await grantOn(office.db, ended, person?.id as string, 'edit');
    const rosa = await office.signedIn('rosa');
    const intake = await askForFiles(rosa, ended, { title: 'Of rosa' });
    await handed(intake.token, 'said.txt', Buffer.from('said'));
    const [deposit] = (await sheetOf(intake.id, rosa)).handedIn;
    await setInherits(office.db, office.clock.date(), ended, false);
    await endGrants(office.db, ended);
    office.clock.advance(1000);
    expect((await rosa.ask('GET', `/api/intakes/${intake.id}`)).status).toBe(403);
    expect((await rosa.ask('GET', `/api/deposits/${deposit?.id}`)).status).toBe(403);
    for (const [act, body] of [
      ['accept', {}],
      ['refuse', { reason: 'No.' }],
    ] as const)
      expect((await rosa.ask('POST', `/api/deposits/${deposit?.id}/${act}`, body)).status).toBe(403);
    expect((await rosa.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true })).status).toBe(200);
  });

  it('is refused what is asked wrongly, each with its field', async () => {
    const ask = (more: object) =>
      iris.ask<{ errors?: { field: string }[]; code: string }>('POST', '/api/intakes', intakeAsked(into, more));
    expect((await ask({ folderPattern: '{{nothing}}' })).body.errors?.[0]?.field).toBe('folderPattern');
    expect((await ask({ title: '' })).body.errors?.[0]?.field).toBe('title');
    expect((await ask({ password: 'password1' })).body.code).toBe('password.weak');
    const past = { opensAt: null, closesAt: '2020-01-01T00:00:00Z' };
    expect((await ask({ window: past })).body.code).toBe('window.closes-in-the-past');
    expect((await tomas.ask('POST', '/api/intakes', intakeAsked(office.roots.iris))).status).toBe(404);
    const own = [{ id: '0b3a1b1e-6d0a-4d2e-9f2e-6a5f3c1d2e3f', words: 'Which day?', must: true }];
    const intake = await askForFiles(iris, into, { questions: { name: 'must', mail: 'may', firm: 'no', own } });
    const somebody = await outsider(office, intake.token);
    expect((await handIn(somebody)).body).toMatchObject({ code: 'answer.missing' });
    const said = { name: 'Zoe', own: { [own[0]?.id as string]: 'Monday' } };
    expect((await handIn(somebody, said)).body.code).toBe('deposit.empty');
    expect((await handIn(somebody, { ...said, mail: 'no address' })).body.code).toBe('answer.missing');
  });

  it('of a home is closed to everybody else; an admin sees that it is there, and may withdraw it', async () => {
    const intake = await askForFiles(tomas, office.roots.tomas, { title: 'Private papers' });
    const row = (await iris.ask<IntakeList>('GET', '/api/intakes')).body.intakes.find((i) => i.id === intake.id);
    expect(row).toMatchObject({ closed: true, folder: null });
    expect(JSON.stringify(row)).not.toContain('Private papers');
    expect((await iris.ask('GET', `/api/intakes/${intake.id}`)).status).toBe(403);
    expect((await iris.ask('PATCH', `/api/intakes/${intake.id}`, { title: 'Mine' })).status).toBe(403);
    const withdrawn = await iris.ask<IntakeRow>('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true });
    expect(withdrawn.body).toMatchObject({ closed: true, state: 'withdrawn' });
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('GET', `/api/intakes/${intake.id}`)).status).toBe(404);
  });
});
