import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdirSync, mkdtempSync, readdirSync, rmSync, statfsSync } from 'node:fs';
import { request, type ClientRequest } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { names, storeOf, usedBytes } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { PACE } from '../platform/pace.js';
import { RoomService } from '../stores/room.service.js';

const MB = 1_000_000;

/** A PUT whose bytes are sent as the test says. */
function put(
  office: TestOffice,
  by: Client,
  name: string,
  length?: number,
): { req: ClientRequest; status: Promise<number> } {
  const path = `/api/folders/${office.roots.projects}/files?name=${name}`;
  const { hostname: host, port } = new URL(office.origin);
  const headers = { cookie: by.cookieHeader(path), ...(length !== undefined && { 'content-length': length }) };
  const req = request({ host, port, method: 'PUT', path, headers });
  const status = new Promise<number>((resolve) => {
    req.on('response', (res) => {
      res.resume();
      resolve(res.statusCode ?? 0);
    });
    req.on('error', () => resolve(0));
  });
  return { req, status };
}

const held = async (office: TestOffice) =>
  Number((await office.db.query<{ n: string }[]>('SELECT coalesce(sum(held_bytes), 0) AS n FROM room_held'))[0]?.n);
const until = async (holds: () => Promise<boolean>) => {
  for (let tries = 0; !(await holds()); tries += 1) {
    if (tries > 1200) throw new Error('it did not come to that');
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
};

describe('room for bytes on their way', () => {
  let office: TestOffice;
  let iris: Client;
  beforeAll(async () => {
    office = await openOffice();
    iris = await office.signedIn('iris');
  });
  afterAll(() => office.close());
  const quota = async (bytes: number | null) =>
    iris.ask('PATCH', `/api/stores/${await storeOf(iris, office.roots.projects)}`, {
      quotaBytes: bytes === null ? null : (await usedBytes(iris, 'Projects')) + bytes,
    });

  it('is given back when a request is closed before its body is read, and when it is cut off in the middle', async () => {
    const before = await office.app.get(RoomService).diskFree();
    for (let n = 0; n < 20; n += 1) {
      const { req } = put(office, iris, `cut-${n}.bin`, 900 * MB);
      if (n % 2) req.write(randomBytes(100_000));
      else req.flushHeaders();
      setTimeout(() => req.destroy(), n * 5);
    }
    // The last of them may not have begun yet when the first are over.
    for (let quiet = 0; quiet < 10; quiet += 1) {
      await until(async () => (await held(office)) === 0);
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
    // Other programs write to this disk too: what was announced is a hundred times what they do.
    expect(Math.abs((await office.app.get(RoomService).diskFree()) - before)).toBeLessThan(2000 * MB);
    expect(await names(iris, office.roots.projects)).toEqual([]);
  });
  it('is asked for as bytes come, so that a stream of unknown length ends at the quota', async () => {
    await quota(3 * MB);
    const { req, status } = put(office, iris, 'endless.bin');
    req.on('error', () => undefined);
    for (let n = 0; n < 10; n += 1) req.write(randomBytes(MB));
    expect(await status).toBe(507);
    req.destroy();
    await until(async () => (await held(office)) === 0);
    expect(await names(iris, office.roots.projects)).toEqual([]);
    await quota(null);
  });
  it('and at the largest file that a store takes', async () => {
    const store = await storeOf(iris, office.roots.projects);
    await iris.ask('PATCH', `/api/stores/${store}`, { largestFileBytes: 2 * MB });
    const { req, status } = put(office, iris, 'large.bin');
    for (let n = 0; n < 5; n += 1) req.write(randomBytes(MB));
    expect(await status).toBe(413);
    req.destroy();
    await iris.ask('PATCH', `/api/stores/${store}`, { largestFileBytes: null });
  });
  it('counts what others are bringing at the same moment, in the store and for the person', async () => {
    await quota(5 * MB);
    const one = put(office, iris, 'one.bin', 4 * MB);
    one.req.write(randomBytes(MB));
    await until(async () => (await held(office)) >= 4 * MB);
    expect((await iris.upload(office.roots.projects, 'two.bin', randomBytes(2 * MB))).body).toMatchObject({
      code: 'quota.store',
      leftBytes: MB,
    });
    one.req.end(randomBytes(3 * MB));
    expect(await one.status).toBe(201);
    expect((await iris.upload(office.roots.projects, 'three.bin', randomBytes(MB))).status).toBe(201);
    await quota(null);
  });
  it('counts in parts of resumable uploads, all of them together', async () => {
    await quota(10 * MB);
    const begin = async (name: string) =>
      (
        await iris.fetch('/api/uploads', {
          method: 'POST',
          headers: {
            'Tus-Resumable': '1.0.0',
            'Upload-Length': String(8 * MB),
            'Upload-Metadata': `folderId ${Buffer.from(office.roots.projects).toString('base64')},name ${Buffer.from(name).toString('base64')}`,
          },
        })
      ).headers.get('location') as string;
    const patch = (at: string, offset: number, bytes: Buffer) =>
      iris.fetch(at, {
        method: 'PATCH',
        headers: {
          'Tus-Resumable': '1.0.0',
          'Upload-Offset': String(offset),
          'Content-Type': 'application/offset+octet-stream',
        },
        body: new Uint8Array(bytes),
      });
    const [a, b] = [await begin('a.las'), await begin('b.las')];
    expect((await patch(a, 0, randomBytes(6 * MB))).status).toBe(204);
    const second = await patch(b, 0, randomBytes(6 * MB));
    expect([second.status, ((await second.json()) as { code: string; detail: string }).detail]).toEqual([
      507,
      expect.stringContaining('kept for a week'),
    ]);
    expect((await patch(a, 6 * MB, randomBytes(2 * MB))).status).toBe(204);
    expect(await names(iris, office.roots.projects)).toContain('a.las');
    await iris.fetch(b, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0' } });
    expect(await held(office)).toBe(0);
    await quota(null);
  });
  it('of a process that died ends by itself, and that of uploads is what has arrived', async () => {
    const [{ id: person }] = (await office.db.query('SELECT id FROM person LIMIT 1')) as [{ id: string }];
    const store = await storeOf(iris, office.roots.projects);
    await office.db.query(
      `INSERT INTO room_held (id, process, person_id, store_id, held_bytes, ends_at) VALUES (gen_random_uuid(), gen_random_uuid(), $1, $2, 1e15, now() - interval '1 second')`,
      [person, store],
    );
    expect((await iris.upload(office.roots.projects, 'after.bin', randomBytes(1000))).status).toBe(201);
    await office.app.get(RoomService).tidy();
    expect(await held(office)).toBe(0);
  });
});

describe('a stream that brings nearly nothing', () => {
  it('ends, and what it held is given back; a resumable one keeps what has arrived', async () => {
    const office = await openOffice({ pace: { ...PACE, stretchMs: 150, leastBytes: 2000 } });
    const iris = await office.signedIn('iris');
    const { req, status } = put(office, iris, 'slow.bin', 900_000);
    req.write('x');
    expect([408, 0]).toContain(await status);
    req.destroy();
    await until(async () => (await held(office)) === 0);
    expect(await names(iris, office.roots.projects)).toEqual([]);
    await office.close();
  });
});

/** A small disk of its own, where this machine may mount one. */
function smallDisk(): string | null {
  const folder = mkdtempSync(join(tmpdir(), 'quay-disk-'));
  try {
    execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=96m', 'tmpfs', folder], { stdio: 'ignore' });
    return folder;
  } catch {
    rmSync(folder, { recursive: true });
    return null;
  }
}

const disk = smallDisk();
describe.skipIf(disk === null)('a disk that is full', () => {
  let office: TestOffice;
  let iris: Client;
  beforeAll(async () => {
    mkdirSync(join(disk as string, 'blobs'));
    // Nothing is kept free, so that the disk itself says when it is full.
    office = await openOffice({ blobRoot: join(disk as string, 'blobs'), keepFreeBytes: -1e12 });
    iris = await office.signedIn('iris');
  });
  afterAll(async () => {
    await office.close();
    execFileSync('umount', [disk as string]);
    rmSync(disk as string, { recursive: true });
  });
  const free = () => statfsSync(disk as string).bavail * statfsSync(disk as string).bsize;

  it('keeps nothing of a plain upload, and of a resumable one what it says', async () => {
    const before = free();
    const { req, status } = put(office, iris, 'whole.bin');
    req.on('error', () => undefined);
    for (let n = 0; n < 130; n += 1) req.write(randomBytes(MB));
    expect([507, 0]).toContain(await status);
    req.destroy();
    await until(async () => Promise.resolve(free() > before - MB));
    const at = (
      await iris.fetch('/api/uploads', {
        method: 'POST',
        headers: {
          'Tus-Resumable': '1.0.0',
          'Upload-Length': String(300 * MB),
          'Upload-Metadata': `folderId ${Buffer.from(office.roots.projects).toString('base64')},name ${Buffer.from('cloud.las').toString('base64')}`,
        },
      })
    ).headers.get('location') as string;
    const url = new URL(office.origin + at);
    const headers = {
      cookie: iris.cookieHeader(at),
      'Tus-Resumable': '1.0.0',
      'Upload-Offset': 0,
      'Content-Type': 'application/offset+octet-stream',
    };
    const patch = request({ host: url.hostname, port: url.port, path: at, method: 'PATCH', headers });
    patch.on('error', () => undefined);
    const answered = new Promise<void>((resolve) =>
      patch.on('response', (res) => (res.resume(), resolve())).on('error', () => resolve()),
    );
    for (let n = 0; n < 130; n += 1) patch.write(randomBytes(MB));
    await answered;
    patch.destroy();
    const { offsetBytes } = (await iris.ask<{ offsetBytes: number }>('GET', at)).body;
    await until(async () => Promise.resolve(free() > before - offsetBytes - MB));
    await iris.fetch(at, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0' } });
    await until(async () => Promise.resolve(free() > before - MB));
    expect(readdirSync(join(disk as string, 'blobs/tmp'))).toEqual([]);
  });
});
