import type { UploadAnswer, VisitorDoor } from '@quay/contract';
import { createHash, randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { copy, folder, move, names, purge, putBack, rename, trash, usedBytes } from './_fixtures/acts.js';
import { listen, until } from './_fixtures/listening.js';
import { openOffice, PASSWORDS, type Answer, type Client, type TestOffice } from './_fixtures/office.js';
import { checkInvariants } from './check/invariants.js';
import { BLOBS } from './platform/blobs/blob-store.js';

// Two server processes on one database and one folder of blobs, as behind a proxy that shares requests out: what was done at
// one holds at the other a moment later, and what only one may do is done once, wherever it was asked.
let one: TestOffice;
let two: TestOffice;
let iris: Client;
let place: string;

beforeAll(async () => {
  one = await openOffice();
  const { databaseUrl, blobRoot, sealingKey } = one.config;
  two = await openOffice({ databaseUrl, blobRoot, sealingKey }, false);
  iris = await one.signedIn('iris');
  place = await folder(iris, one.roots.projects, 'Two doors');
});
afterAll(async () => {
  await two.close();
  await one.close();
});

const there = (client: Client) => client.at(two.origin);
const file = async (name: string, bytes: Buffer = randomBytes(400)) =>
  (await iris.upload(place, name, bytes, '&conflict=keep-both')).body.id;
const open = (by: Client, token: string, password: string | null = null) =>
  by.ask<VisitorDoor>('POST', `/s/${token}/open`, { password });
/** The other process hears of a change by PostgreSQL's NOTIFY, long before it would forget by itself (two seconds). */
const soon = (by: Client, path: string, status: number) =>
  vi.waitFor(async () => expect((await by.fetch(path)).status).toBe(status), { timeout: 1000, interval: 20 });
const statuses = (answers: Answer<unknown>[]) => answers.map((a) => a.status).sort();

describe('a share', () => {
  it('that is withdrawn at one is shut at the other, and its stream ends', async () => {
    const id = await file('withdrawn.txt');
    const share = await one.publish(iris, [id]);
    const visitor = two.client();
    expect((await open(visitor, share.token)).status).toBe(200);
    await soon(visitor, `/s/${share.token}/files/${id}`, 200);
    const ear = await listen(visitor, `/s/${share.token}/events`);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    await until(() => ear.state.ended);
    await soon(visitor, `/s/${share.token}/files/${id}`, 410);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: false });
    await soon(visitor, `/s/${share.token}/files/${id}`, 200);
  });

  it('whose password changes at one lets nobody in by the old one at the other', async () => {
    const id = await file('password.txt');
    const [old, next] = ['gravel-heron-silent-oar', 'orchard-bramble-cistern'];
    const share = await one.publish(iris, [id], { password: old });
    const visitor = two.client();
    expect((await open(visitor, share.token, old)).status).toBe(200);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { password: next });
    await soon(visitor, `/s/${share.token}/files/${id}`, 401);
    expect((await open(two.client(), share.token, old)).status).toBe(401);
    expect((await open(two.client(), share.token, next)).status).toBe(200);
  });

  it('whose file goes to the trash at one has nothing at the other, and has it again', async () => {
    const id = await file('gone.txt');
    const share = await one.publish(iris, [id]);
    const visitor = two.client();
    await open(visitor, share.token);
    await trash(iris, [id]);
    await soon(visitor, `/s/${share.token}/files/${id}`, 410);
    await putBack(iris, [id]);
    await soon(visitor, `/s/${share.token}/files/${id}`, 200);
  });

  it('has as many visits as it has, whichever door they come through', async () => {
    const share = await one.publish(iris, [await file('five.txt')], { visitLimit: 5 });
    const answers = await Promise.all(
      Array.from({ length: 16 }, (_, n) => open((n % 2 ? one : two).client(), share.token)),
    );
    expect(statuses(answers).filter((s) => s === 200)).toHaveLength(5);
    expect(new Set(statuses(answers))).toEqual(new Set([200, 410]));
  });

  it('has one count of wrong passwords', async () => {
    const share = await one.publish(iris, [await file('guess.txt')], { password: 'gravel-heron-silent-oar' });
    const answers: Answer<unknown>[] = [];
    for (let n = 0; n < 11; n += 1) answers.push(await open((n % 2 ? one : two).client(), share.token, `wrong ${n}`));
    expect(answers.map((a) => a.status)).toEqual([...Array.from({ length: 10 }, () => 401), 429]);
    expect((await open(one.client(), share.token, 'gravel-heron-silent-oar')).status).toBe(429);
    one.clock.advance(61_000);
    two.clock.at = one.clock.at;
    expect((await open(two.client(), share.token, 'gravel-heron-silent-oar')).status).toBe(200);
  });
});

describe('a session', () => {
  it('that ends at one is none at the other, and its stream ends there', async () => {
    const tomas = await one.signedIn('tomas');
    const ear = await listen(there(tomas));
    expect((await there(tomas).ask('GET', '/api/session')).status).toBe(200);
    await tomas.ask('DELETE', '/api/session');
    expect((await there(tomas).ask('GET', '/api/session')).status).toBe(401);
    await until(() => ear.state.ended);
  });

  it('has one count of wrong tries from one place', async () => {
    const tries: number[] = [];
    for (let n = 0; n < 11; n += 1) {
      const asked = { signInName: 'nobody', password: `wrong ${n}` };
      tries.push((await (n % 2 ? one : two).client().ask('POST', '/api/session', asked)).status);
    }
    expect(tries.slice(0, 10).every((s) => s === 401)).toBe(true);
    expect(tries.at(-1)).toBe(429);
    const rosa = { signInName: 'rosa', password: PASSWORDS.rosa };
    expect((await two.client().ask('POST', '/api/session', rosa)).status).toBe(204);
  });
});

describe('asked at both at the same moment', () => {
  const rounds = (how: (n: number) => Promise<void>) => async () => {
    for (let n = 0; n < 8; n += 1) await how(n);
    expect((await checkInvariants(one.db, one.app.get(BLOBS), true)).violations).toEqual([]);
  };

  it(
    'one name is taken once',
    rounds(async (n) => {
      const at = await folder(iris, place, `Names ${n}`);
      const [a, b] = [iris, there(iris)];
      const id = (await a.upload(at, 'other.txt', randomBytes(9))).body.id;
      const answers = await Promise.all([
        a.upload(at, 'Same.txt', randomBytes(10)),
        b.upload(at, 'SAME.txt', randomBytes(11)),
        rename(b, id, 'same.TXT'),
      ]);
      expect(answers.filter((x) => x.status < 300)).toHaveLength(1);
      for (const x of answers) if (x.status >= 300) expect([x.status, x.body.code]).toEqual([409, 'name.taken']);
    }),
  );

  it(
    'two folders never come to lie in each other',
    rounds(async (n) => {
      const [left, right] = [await folder(iris, place, `Left ${n}`), await folder(iris, place, `Right ${n}`)];
      const answers = await Promise.all([move(iris, [left], right), move(there(iris), [right], left)]);
      expect(statuses(answers)).toEqual([200, 409]);
      expect(answers.find((x) => x.status === 409)?.body.code).toMatch(/^move\./);
    }),
  );

  it(
    'what is removed for good and put back is one of both',
    rounds(async (n) => {
      const id = await file(`both ${n}.txt`);
      await trash(iris, [id]);
      const [gone, back] = await Promise.all([purge(iris, [id]), putBack(there(iris), [id])]);
      const status = (await iris.fetch(`/api/files/${id}/content`)).status;
      expect([gone.status < 300 || back.status < 300, [200, 404].includes(status)]).toEqual([true, true]);
      if (back.status < 300 && gone.status >= 300) expect(status).toBe(200);
    }),
  );

  it(
    'a copy of what is being removed is whole or is not',
    rounds(async (n) => {
      const bytes = randomBytes(5000);
      const id = await file(`copied ${n}.txt`, bytes);
      const to = await folder(iris, place, `Copies ${n}`);
      await trash(iris, [id]);
      await putBack(iris, [id]);
      const [copied] = await Promise.all([
        copy(there(iris), [id], to),
        trash(iris, [id]).then(() => purge(iris, [id])),
      ]);
      const made = copied.body.nodeIds?.[0];
      if (copied.status >= 300) expect(await names(iris, to)).toEqual([]);
      else expect(Buffer.from(await (await iris.fetch(`/api/files/${made}/content`)).arrayBuffer())).toEqual(bytes);
    }),
  );

  it('a quota holds for what comes in through both', async () => {
    const store = (await iris.ask<{ id: string; name: string }[]>('GET', '/api/stores')).body.find(
      (s) => s.name === 'Projects',
    )?.id;
    const used = await usedBytes(iris, 'Projects');
    const quotaBytes = used + 250_000;
    expect((await iris.ask('PATCH', `/api/stores/${store}`, { quotaBytes })).status).toBe(204);
    const answers = await Promise.all(
      Array.from({ length: 10 }, (_, n) =>
        (n % 2 ? iris : there(iris)).upload(place, `fill ${n}.bin`, randomBytes(40_000)),
      ),
    );
    expect(await usedBytes(iris, 'Projects')).toBeLessThanOrEqual(quotaBytes);
    expect(answers.filter((a) => a.status === 201).length).toBeGreaterThan(0);
    for (const a of answers) if (a.status !== 201) expect(a.body.code).toBe('quota.store');
    await iris.ask('PATCH', `/api/stores/${store}`, { quotaBytes: null });
    // Nothing stays set aside for those who were refused.
    expect(await one.db.query('SELECT id FROM room_held')).toEqual([]);
  });

  it('one resumable upload takes each byte once', async () => {
    const bytes = randomBytes(300_000);
    const b64 = (text: string) => Buffer.from(text).toString('base64');
    const tus = (by: Client, method: string, path: string, headers: Record<string, string>, body?: Buffer) =>
      by.fetch(path, {
        method,
        headers: { 'Tus-Resumable': '1.0.0', ...headers },
        body: body && new Uint8Array(body),
      });
    const begun = await tus(iris, 'POST', '/api/uploads', {
      'Upload-Length': String(bytes.length),
      'Upload-Metadata': `folderId ${b64(place)},name ${b64('twice.bin')},conflict ${b64('refuse')}`,
    });
    const at = begun.headers.get('location') as string;
    const piece = (by: Client, from: number, to: number) =>
      tus(
        by,
        'PATCH',
        at,
        { 'Upload-Offset': String(from), 'Content-Type': 'application/offset+octet-stream' },
        bytes.subarray(from, to),
      );
    const first = await Promise.all([piece(iris, 0, 100_000), piece(there(iris), 0, 100_000)]);
    expect(first.map((r) => r.status)).toContain(204);
    for (const r of first) expect([204, 409, 423, 460]).toContain(r.status);
    const offset = Number((await tus(there(iris), 'HEAD', at, {})).headers.get('upload-offset'));
    expect(offset).toBe(100_000);
    expect((await piece(there(iris), offset, bytes.length)).status).toBe(204);
    const { answer } = (await iris.ask<{ answer: UploadAnswer }>('GET', at)).body;
    expect(answer.sha256).toBe(createHash('sha256').update(bytes).digest('hex'));
  });
});
