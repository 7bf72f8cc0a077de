import type { FolderPage, OpenUpload, UploadAnswer } from '@quay/contract';
import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { request } from 'node:http';
import { Upload } from 'tus-js-client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Housekeeping } from '../platform/housekeeping.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { endGrants, grantOn, regrant } from '../_fixtures/grants.js';

let office: TestOffice;
let tomas: Client;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  [tomas, iris] = await Promise.all([office.signedIn('tomas'), office.signedIn('iris')]);
});
afterAll(() => office.close({ bytes: true }));

const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const folder = async (by: Client, parent: string, name: string) =>
  (await by.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
const b64 = (text: string) => Buffer.from(text).toString('base64');
const metadata = (folderId: string, name: string, conflict = 'refuse') =>
  `folderId ${b64(folderId)},name ${b64(name)},conflict ${b64(conflict)}`;
const tus = (by: Client, method: string, path: string, headers: Record<string, string> = {}, body?: Buffer) =>
  by.fetch(path, { method, headers: { 'Tus-Resumable': '1.0.0', ...headers }, body: body && new Uint8Array(body) });
const begin = async (by: Client, folderId: string, name: string, size: number, conflict = 'refuse') =>
  (
    await tus(by, 'POST', '/api/uploads', {
      'Upload-Length': String(size),
      'Upload-Metadata': metadata(folderId, name, conflict),
    })
  ).headers.get('location') as string;
const patch = (by: Client, at: string, offset: number, body: Buffer) =>
  tus(by, 'PATCH', at, { 'Upload-Offset': String(offset), 'Content-Type': 'application/offset+octet-stream' }, body);
const outcome = async (by: Client, at: string) =>
  (await by.ask<{ answer: UploadAnswer | null; offsetBytes: number }>('GET', at)).body;

/** Sends the head and half of a PATCH, then breaks the connection. */
function broken(at: string, offset: number, half: Buffer, announced: number): Promise<void> {
  return new Promise((resolve) => {
    const url = new URL(office.origin + at);
    const req = request({
      host: url.hostname,
      port: url.port,
      path: url.pathname,
      method: 'PATCH',
      headers: {
        cookie: tomas.cookieHeader(at),
        'Tus-Resumable': '1.0.0',
        'Upload-Offset': offset,
        'Content-Type': 'application/offset+octet-stream',
        'Content-Length': announced,
      },
    });
    req.on('error', () => resolve());
    // The server has read it by then, however busy the machine is: what it has not, the broken connection takes along.
    req.write(half, () => setTimeout(() => req.destroy(), 400));
  });
}

describe('resumable uploads (tus 1.0)', () => {
  it("by the protocol's own client, in pieces", async () => {
    const id = await folder(tomas, office.roots.tomas, 'By client');
    const bytes = randomBytes(1_000_003);
    const url = await new Promise<string>((resolve, reject) => {
      const upload = new Upload(bytes, {
        endpoint: `${office.origin}/api/uploads`,
        chunkSize: 300_000,
        retryDelays: null,
        headers: { cookie: tomas.cookieHeader('/api/') },
        metadata: { folderId: id, name: 'scan.las', conflict: 'refuse', modifiedAt: '1700000000000' },
        onSuccess: () => resolve(upload.url as string),
        onError: reject,
      });
      upload.start();
    });
    const { answer } = await outcome(tomas, new URL(url, office.origin).pathname);
    expect(answer).toMatchObject({ name: 'scan.las', sizeBytes: bytes.length, sha256: sha(bytes), version: 1 });
    const [row] = await office.db.query<{ modified_at: Date }[]>(
      'SELECT modified_at FROM file_version WHERE node_id = $1',
      [answer?.id],
    );
    expect(row?.modified_at.getTime()).toBe(1_700_000_000_000);
  });
  it('says what it can (tus 1.0.x, "OPTIONS"), and wants its version', async () => {
    const answer = await tomas.fetch('/api/uploads', { method: 'OPTIONS' });
    expect([answer.headers.get('tus-version'), answer.headers.get('tus-extension')]).toEqual([
      '1.0.0',
      'creation,creation-with-upload,termination',
    ]);
    expect((await tomas.fetch('/api/uploads', { method: 'POST', headers: { 'Upload-Length': '1' } })).status).toBe(412);
  });
  it('goes on after a broken connection, in this process and in the next, with the right hash', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Broken');
    const bytes = randomBytes(400_000);
    const at = await begin(tomas, id, 'broken.bin', bytes.length);
    await broken(at, 0, bytes.subarray(0, 150_000), bytes.length);
    await expect.poll(async () => Number((await tus(tomas, 'HEAD', at)).headers.get('upload-offset'))).toBe(150_000);
    expect((await tomas.ask<OpenUpload[]>('GET', '/api/uploads')).body).toMatchObject([
      { name: 'broken.bin', offsetBytes: 150_000, sizeBytes: 400_000, folderName: 'Broken' },
    ]);
    // Another server on the same database and disk has no memory of the hash so far.
    const second = await openOffice(
      {
        databaseUrl: office.config.databaseUrl,
        blobRoot: office.config.blobRoot,
        sealingKey: office.config.sealingKey,
      },
      false,
    );
    const there = await second.signedIn('tomas');
    expect((await patch(there, at, 150_000, bytes.subarray(150_000, 300_000))).status).toBe(204);
    await second.close({ withFiles: false });
    expect((await patch(tomas, at, 100, bytes.subarray(100))).status).toBe(409);
    expect((await patch(tomas, at, 300_000, bytes.subarray(300_000))).status).toBe(204);
    expect((await outcome(tomas, at)).answer).toMatchObject({ sha256: sha(bytes), sizeBytes: 400_000 });
    // Asked again it is done, and stays what it was.
    expect((await tus(tomas, 'HEAD', at)).headers.get('upload-offset')).toBe('400000');
  });
  it('nothing and everything in one request', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Small');
    const empty = await begin(tomas, id, 'empty.txt', 0);
    expect((await outcome(tomas, empty)).answer).toMatchObject({ sizeBytes: 0, sha256: sha(Buffer.alloc(0)) });
    const whole = await tus(
      tomas,
      'POST',
      '/api/uploads',
      {
        'Upload-Length': '5',
        'Upload-Metadata': metadata(id, 'whole.txt'),
        'Content-Type': 'application/offset+octet-stream',
      },
      Buffer.from('whole'),
    );
    expect([whole.status, (await outcome(tomas, whole.headers.get('location') as string)).answer?.name]).toEqual([
      201,
      'whole.txt',
    ]);
  });
  it('a taken name is refused before bytes move; one that was taken meanwhile keeps both', async () => {
    const id = await folder(tomas, office.roots.projects, 'Names');
    await iris.upload(id, 'plan.txt', Buffer.from('iris'));
    const refused = await tus(tomas, 'POST', '/api/uploads', {
      'Upload-Length': '5',
      'Upload-Metadata': metadata(id, 'Plan.txt'),
    });
    expect([refused.status, ((await refused.json()) as { code: string }).code]).toEqual([409, 'name.taken']);
    const [mine, theirs] = [await begin(tomas, id, 'both.txt', 5), await begin(iris, id, 'both.txt', 4)];
    office.clock.advance(1000);
    await Promise.all([patch(tomas, mine, 0, Buffer.from('tomas')), patch(iris, theirs, 0, Buffer.from('iris'))]);
    expect([(await outcome(tomas, mine)).answer?.name, (await outcome(iris, theirs)).answer?.name].sort()).toEqual([
      'both (2).txt',
      'both.txt',
    ]);
  });
  it('complete, but its folder is in the trash: it waits, and ends when the folder is back', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Gone for a while');
    const at = await begin(tomas, id, 'late.txt', 4);
    await tomas.ask('POST', '/api/trash', { nodeIds: [id] });
    const answer = await patch(tomas, at, 0, Buffer.from('late'));
    expect([answer.status, ((await answer.json()) as { code: string }).code]).toEqual([404, 'node.trashed']);
    await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [id] });
    expect((await tomas.ask<UploadAnswer>('POST', `${at}/finish`, { conflict: 'keep-both' })).body.name).toBe(
      'late.txt',
    );
  });
  it("is one's own, and ends by termination", async () => {
    const id = await folder(tomas, office.roots.projects, 'Own');
    const at = await begin(tomas, id, 'own.bin', 1000);
    await patch(tomas, at, 0, randomBytes(500));
    for (const method of ['HEAD', 'DELETE']) expect((await tus(iris, method, at)).status).toBe(404);
    expect((await patch(iris, at, 500, randomBytes(500))).status).toBe(404);
    expect((await fetch(office.origin + at, { method: 'HEAD', headers: { 'Tus-Resumable': '1.0.0' } })).status).toBe(
      401,
    );
    expect((await tus(tomas, 'DELETE', at)).status).toBe(204);
    expect((await tus(tomas, 'HEAD', at)).status).toBe(404);
  });
  it('bad input gets a code: metadata, lengths, names, ids', async () => {
    const id = office.roots.tomas;
    const ask = async (length: string, meta: string) => {
      const answer = await tus(tomas, 'POST', '/api/uploads', { 'Upload-Length': length, 'Upload-Metadata': meta });
      return [answer.status, (JSON.parse((await answer.text()).replace(/^[^{].*/s, '{}')) as { code?: string }).code];
    };
    expect(await ask('1', metadata(id, 'a/b'))).toEqual([400, 'name.separator']);
    expect(await ask('1', metadata('x', 'a'))).toEqual([400, 'folderId.guid']);
    expect(await ask('1', metadata(randomUUID(), 'a'))).toEqual([404, 'not-found']);
    expect((await ask('-1', metadata(id, 'a')))[0]).toBe(400);
    expect(await ask('1000000000000000', metadata(id, 'a'))).toEqual([507, 'disk.full']);
    const at = await begin(tomas, id, 'over.bin', 10);
    expect((await patch(tomas, at, 0, randomBytes(11))).status).toBeGreaterThanOrEqual(400);
    expect((await outcome(tomas, at)).answer).toBeNull();
    await tus(tomas, 'DELETE', at);
    expect((await tus(tomas, 'HEAD', '/api/uploads/../../etc')).status).toBe(404);
  });
  it('given up because its name was taken, it leaves nothing', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Skipped');
    const at = await begin(tomas, id, 'taken.bin', 5);
    // Taken before this upload began, as far as its record knows: so it waits for a decision.
    await tomas.upload(id, 'taken.bin', Buffer.from('first'));
    await office.db.query(`UPDATE node SET created_at = created_at - interval '1 hour' WHERE parent_id = $1`, [id]);
    expect(((await (await patch(tomas, at, 0, Buffer.from('later'))).json()) as { code: string }).code).toBe(
      'name.taken',
    );
    expect((await tus(tomas, 'DELETE', at)).status).toBe(204);
    expect((await office.db.query('SELECT 1 FROM upload WHERE id = $1', [at.split('/').at(-1)])) as unknown[]).toEqual(
      [],
    );
  });
  it('asked again after its end, when the answer was lost, says that everything is there', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Asked again');
    const at = await begin(tomas, id, 'whole.bin', 5);
    expect((await patch(tomas, at, 0, Buffer.from('whole'))).status).toBe(204);
    const again = await patch(tomas, at, 5, Buffer.alloc(0));
    expect([again.status, again.headers.get('upload-offset')]).toEqual([204, '5']);
  });
  it('a part that begins while old ones are cleared away stays', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Begun meanwhile');
    const tidying = Array.from({ length: 4 }, () => office.app.get(Housekeeping).tidy());
    const begun = await Promise.all(
      Array.from({ length: 12 }, async (_, n) => {
        const at = await begin(tomas, id, `n ${n}.bin`, 10);
        return { at, status: (await patch(tomas, at, 0, Buffer.from('12345'))).status };
      }),
    );
    await Promise.all(tidying);
    for (const { at, status } of begun) {
      expect(status).toBe(204);
      expect((await patch(tomas, at, 5, Buffer.from('67890'))).status).toBe(204);
    }
  });
  it('a choice that was made with one right is asked for anew where the folder has moved', async () => {
    const id = await folder(iris, office.roots.projects, 'Moves away');
    await iris.upload(id, 'plan.txt', Buffer.from('theirs'));
    const at = await begin(tomas, id, 'plan.txt', 5, 'version');
    await patch(tomas, at, 0, Buffer.from('mi'));
    // Partners is a store where Tomas may add and not replace.
    await regrant(office.db, office.roots.partners, 'contribute');
    await iris.ask('POST', '/api/nodes/move', { nodeIds: [id], toFolderId: office.roots.partners, widens: true });
    expect((await patch(tomas, at, 2, Buffer.from('ne!'))).status).toBe(403);
    const { items } = (await iris.ask<FolderPage>('GET', `/api/folders/${id}`)).body;
    expect(items.map((i) => [i.name, i.versionCount])).toEqual([['plan.txt', 1]]);
    expect((await iris.ask('POST', `${at}/finish`, { conflict: 'keep-both' })).status).toBe(404);
    expect((await tomas.ask('POST', `${at}/finish`, { conflict: 'version' })).body.code).toBe('access.level');
    expect((await tomas.ask('POST', `${at}/finish`, { conflict: 'keep-both' })).status).toBe(200);
    await regrant(office.db, office.roots.partners, 'view');
  });
  it('is refused from the moment that a grant further down has ended, and nothing of it is recorded', async () => {
    const id = await folder(iris, office.roots.partners, 'For a while');
    const [{ person }] = await office.db.query<[{ person: string }]>(
      `SELECT id AS person FROM person WHERE sign_in_name = 'rosa'`,
    );
    const rosa = await office.signedIn('rosa');
    await grantOn(office.db, id, person, 'contribute');
    const at = await begin(rosa, id, 'half.bin', 10);
    expect((await patch(rosa, at, 0, Buffer.from('12345'))).status).toBe(204);
    await endGrants(office.db, id);
    expect((await patch(rosa, at, 5, Buffer.from('67890'))).status).toBe(404);
    expect((await rosa.upload(id, 'whole.bin', Buffer.from('x'))).status).toBe(404);
    expect((await iris.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items).toEqual([]);
    await tus(rosa, 'DELETE', at);
  });
  it('parts are counted to their person, kept for a week, and then removed', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Parts');
    await office.db.query(`UPDATE person SET quota_bytes = used_bytes + 10000 WHERE sign_in_name = 'tomas'`);
    const at = await begin(tomas, id, 'part.bin', 9000);
    await patch(tomas, at, 0, randomBytes(6000));
    expect(
      (
        await tus(tomas, 'POST', '/api/uploads', {
          'Upload-Length': '5000',
          'Upload-Metadata': metadata(id, 'second.bin'),
        })
      ).status,
    ).toBe(507);
    office.clock.advance(6 * 86_400_000);
    await office.app.get(Housekeeping).tidy();
    tomas = await office.signedIn('tomas');
    expect((await tus(tomas, 'HEAD', at)).headers.get('upload-offset')).toBe('6000');
    office.clock.advance(1.1 * 86_400_000);
    await office.app.get(Housekeeping).tidy();
    [tomas, iris] = await Promise.all([office.signedIn('tomas'), office.signedIn('iris')]);
    expect((await tus(tomas, 'HEAD', at)).status).toBe(404);
    expect((await tomas.ask<OpenUpload[]>('GET', '/api/uploads')).body).toEqual([]);
    await office.db.query('UPDATE person SET quota_bytes = NULL');
  });
});
