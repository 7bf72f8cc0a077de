import { MAY_DOWNLOAD, type ShareMay } from '@quay/core';
import type { ChangeShare, FolderPage, ShareSheet, UploadAnswer, VersionList, VisitorDoor } from '@quay/contract';
import { createHash, randomBytes } from 'node:crypto';
import { request } from 'node:http';
import type { DetailedError } from 'tus-js-client';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { bring, finish, refused } from '../_fixtures/bringing.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close({ bytes: true }));

const may = (part: Partial<ShareMay>): ShareMay => ({ ...MAY_DOWNLOAD, ...part });
const CONTRIBUTE = may({ level: 'contribute' });
const HIDDEN = may({ level: 'contribute', seesOthers: false });
const EDIT = may({ level: 'edit' });
const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const folder = async (name: string, parent = office.roots.projects) =>
  (await iris.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
const listed = async (id: string) =>
  (await iris.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items.map((i) => i.name);
const sheet = async (id: string) => (await iris.ask<ShareSheet>('GET', `/api/shares/${id}`)).body;
const change = (id: string, asked: ChangeShare) => iris.ask<ShareSheet>('PATCH', `/api/shares/${id}`, asked);

interface Visit {
  client: Client;
  token: string;
  door: () => Promise<VisitorDoor>;
  files: () => Promise<string[]>;
}
/** A browser of its own that is inside. */
async function inside(token: string): Promise<Visit> {
  const client = office.client();
  await client.ask('POST', `/s/${token}/open`, { password: null });
  const door = async () => (await client.ask<VisitorDoor>('GET', `/s/${token}/door`)).body;
  return { client, token, door, files: async () => (await door()).contents?.files.map((f) => f.path) ?? [] };
}

describe('who may add files', () => {
  it('adds them in pieces, and they are there for everybody at once', async () => {
    const id = await folder('Bids');
    const share = await office.publish(iris, [id], { may: CONTRIBUTE });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    const bytes = randomBytes(100_003);
    expect((await one.door()).contents?.places).toEqual([{ id, path: 'Bids' }]);
    const at = await bring(one, { folderId: id, name: 'bid.pdf' }, bytes);
    expect(at).toMatch(new RegExp(`^/s/${share.token}/uploads/[0-9a-f-]{36}$`));
    const { answer } = (await one.client.ask<{ answer: UploadAnswer }>('GET', at)).body;
    expect(answer).toMatchObject({ name: 'bid.pdf', version: 1, sha256: sha(bytes) });
    expect(await other.files()).toEqual(['Bids/bid.pdf']);
    const got = await other.client.fetch(`/s/${share.token}/files/${answer.id}`);
    expect(sha(Buffer.from(await got.arrayBuffer()))).toBe(sha(bytes));
    // Only whose it is takes it back.
    expect((await one.door()).contents?.files[0]?.own).toBe(true);
    expect((await other.door()).contents?.files[0]?.own).toBe(false);
    expect((await other.client.fetch(`/s/${share.token}/files/${answer.id}`, { method: 'DELETE' })).status).toBe(404);
    expect((await other.client.ask('GET', at)).status).toBe(404);
  });

  it('is named where it lies, on the sheet and in the ledger, and counts for whoever published', async () => {
    const id = await folder('Named');
    const share = await office.publish(iris, [id], { may: CONTRIBUTE, title: 'Named share' });
    const visit = await inside(share.token);
    const used = async () =>
      (
        await office.db.query<{ used: string }[]>(
          `SELECT coalesce(sum(v.size_bytes), 0) AS used FROM file_version v JOIN person p ON p.id = v.charged_to
            WHERE p.sign_in_name = 'iris'`,
        )
      )[0]?.used;
    const before = Number(await used());
    await bring(visit, { folderId: id, name: 'a.txt' }, Buffer.alloc(700));
    expect(Number(await used())).toBe(before + 700);
    const { brought, broughtBytes, history } = await sheet(share.id);
    expect([broughtBytes, brought]).toEqual([
      700,
      [expect.objectContaining({ name: 'a.txt', folderId: id, sizeBytes: 700, who: 'Visitor from 127.0.0.1' })],
    ]);
    expect(history[0]).toMatchObject({ kind: 'share.brought', words: 'brought a.txt into Named share' });
    const file = brought[0]?.id as string;
    const [version] = (await iris.ask<VersionList>('GET', `/api/files/${file}/versions`)).body.versions;
    expect(version).toMatchObject({ createdBy: 'Visitor from 127.0.0.1' });
  });

  it('does not replace what others brought, and takes back only what nobody has gone on with', async () => {
    const id = await folder('Kept');
    await iris.upload(id, 'plan.txt', Buffer.from('of the office'));
    const share = await office.publish(iris, [id], { may: CONTRIBUTE });
    const visit = await inside(share.token);
    expect(await refused(visit, { folderId: id, name: 'PLAN.txt' })).toBe('name.taken');
    expect(await refused(visit, { folderId: id, name: 'plan.txt', conflict: 'version' })).toBe(
      'share.not-yours-to-replace',
    );
    const mine = (
      await visit.client.ask<{ answer: UploadAnswer }>(
        'GET',
        await bring(visit, { folderId: id, name: 'plan.txt', conflict: 'keep-both' }, Buffer.from('of a visitor')),
      )
    ).body.answer;
    expect([mine.name, await listed(id)]).toEqual(['plan (2).txt', ['plan (2).txt', 'plan.txt']]);
    await bring(visit, { folderId: id, name: mine.name, conflict: 'version' }, Buffer.from('corrected'));
    // A colleague goes on with it: from then on it is the office's.
    await iris.upload(id, mine.name, Buffer.from('with notes'), '&conflict=version');
    const back = () => visit.client.fetch(`/s/${share.token}/files/${mine.id}`, { method: 'DELETE' });
    expect((await back()).status).toBe(404);
    expect(await refused(visit, { folderId: id, name: mine.name, conflict: 'version' })).toBe(
      'share.not-yours-to-replace',
    );
    const second = await bring(visit, { folderId: id, name: 'wrong.txt' }, Buffer.from('wrong one'));
    const { answer } = (await visit.client.ask<{ answer: UploadAnswer }>('GET', second)).body;
    const gone = await visit.client.fetch(`/s/${share.token}/files/${answer.id}`, { method: 'DELETE' });
    expect([gone.status, await listed(id)]).toEqual([204, ['plan (2).txt', 'plan.txt']]);
    expect((await sheet(share.id)).history[0]?.kind).toBe('share.taken-back');
  });

  it('sees only what they bring themselves, where it is so chosen', async () => {
    const id = await folder('Tender');
    await folder('Secret shortlist', id);
    const { body: plan } = await iris.upload(id, 'plan.txt', Buffer.from('of the office'));
    const share = await office.publish(iris, [id], { may: HIDDEN });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    await bring(one, { folderId: id, name: 'mine.txt' }, Buffer.from('mine'));
    const shown = JSON.stringify(await other.door());
    expect(shown).not.toMatch(/plan|shortlist|mine/);
    expect(await one.files()).toEqual(['Tender/mine.txt']);
    expect((await other.client.fetch(`/s/${share.token}/files/${plan.id}`)).status).toBe(404);
    const zip = Buffer.from(await (await other.client.fetch(`/s/${share.token}/all.zip`)).arrayBuffer());
    expect(zip.includes('plan')).toBe(false);
    // Of a hidden twin they are told nothing: both are kept, by whatever name they ask for.
    const at = await bring(other, { folderId: id, name: 'plan.txt', conflict: 'version' }, Buffer.from('a twin'));
    expect((await other.client.ask<{ answer: UploadAnswer }>('GET', at)).body.answer.name).toBe('plan (2).txt');
  });

  it('is somebody with an address in all their visits', async () => {
    const id = await folder('Proven');
    const share = await office.publish(iris, [id], { may: HIDDEN });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    // As if both had proven it: that a visit keeps as whom it was let in is tested in recipients.test.ts.
    await office.db.query(`UPDATE visit SET recipient = 'dana@brookline.example' WHERE share_id = $1`, [share.id]);
    await change(share.id, { title: 'Proven' });
    await bring(one, { folderId: id, name: 'mine.txt' }, Buffer.from('mine'));
    expect(await other.files()).toEqual([]);
    await bring(other, { folderId: id, name: 'more.txt' }, Buffer.from('more'));
    expect([await other.files(), await one.files()]).toEqual(Array(2).fill(['Proven/mine.txt', 'Proven/more.txt']));
    expect((await sheet(share.id)).brought.map((b) => b.who)).toEqual(Array(2).fill('dana@brookline.example'));
  });
});

describe('who may edit', () => {
  it('puts a new version over what is there, but not unseen over a newer one', async () => {
    const id = await folder('Editable');
    const { body: plan } = await iris.upload(id, 'plan.txt', Buffer.from('first'));
    const share = await office.publish(iris, [id], { may: EDIT });
    const visit = await inside(share.token);
    const over = { folderId: id, name: 'plan.txt', conflict: 'version', base: sha(Buffer.from('first')) };
    await bring(visit, over, Buffer.from('second'));
    expect((await sheet(share.id)).history[0]?.words).toBe(
      'replaced plan.txt (version 2), brought into Mill Lane drawings',
    );
    // A colleague was faster: both are told.
    await tomas.upload(id, 'plan.txt', Buffer.from('third, by Tomas'), '&conflict=version');
    const stale = { ...over, base: sha(Buffer.from('second')) };
    const [problem, at] = await bring(visit, stale, Buffer.from('second, mended')).then(
      () => [null, ''],
      (error: DetailedError) => [
        JSON.parse(error.originalResponse?.getBody() ?? '{}') as object,
        error.originalRequest?.getURL() ?? '',
      ],
    );
    expect(problem).toMatchObject({
      code: 'file.newer',
      detail: expect.stringMatching(/^Tomas .* has put a newer version of plan.txt there/) as string,
      version: 3,
    });
    const done = await finish(visit, new URL(at as string, office.origin).pathname, 'version');
    expect(done.body).toMatchObject({ id: plan.id, version: 4 });
    const { versions } = (await iris.ask<VersionList>('GET', `/api/files/${plan.id}/versions`)).body;
    expect(versions.map((v) => v.createdBy)).toEqual([
      'Visitor from 127.0.0.1',
      expect.stringMatching(/^Tomas/),
      'Visitor from 127.0.0.1',
      expect.stringMatching(/^Iris/),
    ]);
    // Nobody with a link removes what others brought.
    expect((await visit.client.fetch(`/s/${share.token}/files/${plan.id}`, { method: 'DELETE' })).status).toBe(404);
  });
});

it('keeps the version of the office that somebody with a link covers, whatever the policy of the store', async () => {
  const id = await folder('Covered');
  const { body: plan } = await iris.upload(id, 'plan.txt', Buffer.from('of the office'));
  const share = await office.publish(iris, [id], { may: EDIT });
  const visit = await inside(share.token);
  await office.db.query(`UPDATE store SET versions_kept = 1 WHERE name = 'Projects'`);
  for (const text of ['over it', 'once more', 'and again'])
    await bring(visit, { folderId: id, name: 'plan.txt', conflict: 'version' }, Buffer.from(text));
  const { versions } = (await iris.ask<VersionList>('GET', `/api/files/${plan.id}/versions`)).body;
  expect(versions.map((v) => [v.number, v.kept])).toEqual([
    [4, false],
    [1, true],
  ]);
  await office.db.query(`UPDATE store SET versions_kept = 32 WHERE name = 'Projects'`);
});

describe('files are refused', () => {
  it('at a share that takes none, without a visit, and elsewhere than in its live folders', async () => {
    const id = await folder('Refusals');
    const [frozen, beside] = [await folder('Frozen'), await folder('Beside')];
    const only = await inside((await office.publish(iris, [id])).token);
    expect(await refused(only, { folderId: id, name: 'x' })).toBe('share.takes-nothing');
    const share = await office.publish(iris, [id], { frozenIds: [frozen], may: EDIT });
    const visit = await inside(share.token);
    expect((await visit.door()).contents?.places).toEqual([{ id, path: 'Refusals' }]);
    for (const folderId of [frozen, beside, office.roots.projects, office.roots.tomas])
      expect(await refused(visit, { folderId, name: 'x' })).toBe('not-found');
    expect(await refused({ ...visit, client: office.client() }, { folderId: id, name: 'x' })).toBe('share.not-opened');
    expect(await refused({ ...visit, token: only.token }, { folderId: id, name: 'x' })).toBe('share.not-opened');
    expect(await refused(visit, { folderId: id, name: 'a/b' })).toMatch(/^name\./);
    // A session of the office is no visit, and the other way round.
    expect(await refused({ ...visit, client: iris }, { folderId: id, name: 'x' })).toBe('share.not-opened');
    expect((await visit.client.ask('GET', '/api/uploads')).status).toBe(401);
    await iris.ask('POST', '/api/trash', { nodeIds: [id] });
    expect(await refused(visit, { folderId: id, name: 'x' })).toBe('share.broken');
  });

  it('beyond what the share takes in, and beyond so many at once', async () => {
    const id = await folder('Little room');
    const share = await office.publish(iris, [id], { may: may({ level: 'contribute', takesBytes: 1_000_000 }) });
    const visit = await inside(share.token);
    await bring(visit, { folderId: id, name: 'a' }, Buffer.alloc(600_000));
    expect((await visit.door()).contents?.takesBytes).toBe(400_000);
    expect(await refused(visit, { folderId: id, name: 'b' }, Buffer.alloc(500_000))).toBe('share.full');
    // What is on its way counts, so that many that begin together do not pass it.
    const begin = (size: number) =>
      visit.client.fetch(`/s/${share.token}/uploads`, {
        method: 'POST',
        headers: {
          ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': String(size) },
          'Upload-Metadata': `folderId ${Buffer.from(id).toString('base64')},name ${Buffer.from('c').toString('base64')}`,
        },
      });
    const first = await begin(300_000);
    expect([first.status, (await begin(300_000)).status]).toEqual([201, 507]);
    const at = first.headers.get('location') as string;
    expect((await visit.client.fetch(at, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0' } })).status).toBe(
      204,
    );
    for (let n = 0; n < 50; n += 1) expect((await begin(1)).status).toBe(201);
    const tooMany = await begin(1);
    expect([tooMany.status, ((await tooMany.json()) as { code: string }).code]).toEqual([
      429,
      'share.too-many-uploads',
    ]);
  });

  it('the moment that the level is taken away, also in the middle of one', async () => {
    const id = await folder('Taken away');
    const share = await office.publish(iris, [id], { may: CONTRIBUTE });
    const visit = await inside(share.token);
    const created = await visit.client.fetch(`/s/${share.token}/uploads`, {
      method: 'POST',
      headers: {
        ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': '5000000' },
        'Upload-Metadata': `folderId ${Buffer.from(id).toString('base64')},name ${Buffer.from('big').toString('base64')}`,
      },
    });
    const at = created.headers.get('location') as string;
    const cut = new Promise<void>((resolve) => {
      const url = new URL(at, office.origin);
      const req = request(url, {
        method: 'PATCH',
        headers: {
          cookie: visit.client.cookieHeader(at),
          ...{ 'Tus-Resumable': '1.0.0', 'Upload-Offset': 0, 'Content-Length': 5_000_000 },
          'Content-Type': 'application/offset+octet-stream',
        },
      });
      req.on('error', () => resolve());
      req.on('response', (answer) => {
        answer.resume();
        resolve();
      });
      req.write(randomBytes(1_000_000));
    });
    await vi.waitFor(async () => {
      const { offsetBytes } = (await visit.client.ask<{ offsetBytes: number }>('GET', at)).body;
      const [held] = await office.db.query<unknown[]>('SELECT 1 FROM room_held WHERE upload_id = $1', [
        at.split('/').at(-1),
      ]);
      expect(offsetBytes > 0 || held !== undefined).toBe(true);
    }, 30_000);
    await change(share.id, { may: MAY_DOWNLOAD });
    await cut;
    expect(await refused(visit, { folderId: id, name: 'x' })).toBe('share.takes-nothing');
    expect([await listed(id), (await visit.door()).contents?.takesBytes]).toEqual([[], null]);
    // And back: it goes on from where it was.
    await change(share.id, { may: CONTRIBUTE });
    expect(await refused(visit, { folderId: id, name: 'x' })).toBe('taken in');
  });

  it('after the end of the share, of the visit and of what its publisher may', async () => {
    const id = await folder('Ends');
    const share = await office.publish(iris, [id], { may: CONTRIBUTE });
    const visit = await inside(share.token);
    await change(share.id, { withdrawn: true });
    expect(await refused(visit, { folderId: id, name: 'x' })).toBe('share.withdrawn');
    await change(share.id, { withdrawn: false });
    expect(await refused(visit, { folderId: id, name: 'x' })).toBe('taken in');
    await iris.ask('PATCH', `/api/shares/${share.id}`, { password: 'gravel-heron-silent-oar' });
    expect(await refused(visit, { folderId: id, name: 'y' })).toBe('share.not-opened');
  });
});

it('a share of files alone, or of what is frozen, says that there is nowhere to add to', async () => {
  const { body: file } = await iris.upload(office.roots.projects, 'alone.txt', Buffer.from('alone'));
  const asked = (nodeIds: string[]) =>
    iris.ask<ShareSheet>('POST', '/api/shares', {
      ...{ title: 'Nowhere', nodeIds, password: null, visitLimit: null, may: CONTRIBUTE },
      window: { opensAt: null, closesAt: null },
    });
  const answer = await asked([file.id]);
  expect([answer.status, answer.body.code]).toEqual([400, 'share.nowhere-to-add']);
  // An empty one is filled later.
  expect((await asked([])).status).toBe(201);
});
