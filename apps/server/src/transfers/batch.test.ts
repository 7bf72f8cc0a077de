import type { BatchAnswer, CheckAnswer, FolderPage } from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let tomas: Client;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  [tomas, iris] = await Promise.all([office.signedIn('tomas'), office.signedIn('iris')]);
});
afterAll(() => office.close({ bytes: true }));

const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');

describe('many small files at once', () => {
  /** The archive that GNU tar makes of a tree. */
  const tarOf = (files: Record<string, Buffer>, ...options: string[]): Buffer => {
    const root = mkdtempSync(join(tmpdir(), 'quay-tar-'));
    for (const [path, bytes] of Object.entries(files)) {
      mkdirSync(join(root, path, '..'), { recursive: true });
      writeFileSync(join(root, path), bytes);
    }
    const archive = execFileSync(
      'tar',
      ['--format=pax', ...options, '-cf', '-', '--no-recursion', '-C', root, ...Object.keys(files)],
      { maxBuffer: 64_000_000 },
    );
    rmSync(root, { recursive: true });
    return archive;
  };
  const send = (by: Client, folderId: string, body: Buffer, batchId = randomUUID() as string, conflict = 'refuse') =>
    by.fetch(`/api/folders/${folderId}/batch?batchId=${batchId}&conflict=${conflict}`, {
      method: 'PUT',
      body: new Uint8Array(body),
      headers: { 'content-type': 'application/x-tar' },
    });

  it('come with their folders (GNU tar packs them), and twice the same batch counts once', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Batch');
    const files = {
      'Site/1.txt': Buffer.from('1'),
      'Site/Sub/2.txt': Buffer.from('2'),
      'site/3.txt': Buffer.from('3'),
      'top.bin': randomBytes(200_000),
      [`Site/${'lang'.repeat(50)}.txt`]: Buffer.from('long'),
    };
    const [batch, archive] = [randomUUID(), tarOf(files)];
    const answers = [await send(tomas, id, archive, batch), await send(tomas, id, archive, batch)];
    const [first, second] = (await Promise.all(answers.map((a) => a.json()))) as [BatchAnswer, BatchAnswer];
    expect(first.entries.map((e) => e.path)).toEqual(Object.keys(files));
    expect(second).toEqual(first);
    const { body: page } = await tomas.ask<FolderPage>('GET', `/api/folders/${id}`);
    expect(page.items.map((i) => [i.name, i.itemCount])).toEqual([
      ['Site', 4],
      ['top.bin', null],
    ]);
    const top = first.entries[3];
    expect(top && 'answer' in top && top.answer.sha256).toBe(sha(files['top.bin']));
  });
  it('whose entries arrive one by one, each staged before the next has come', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Slowly');
    const archive = tarOf(
      Object.fromEntries(Array.from({ length: 12 }, (_, i) => [`slow ${i}.txt`, Buffer.from(String(i))])),
    );
    const url = new URL(`${office.origin}/api/folders/${id}/batch?batchId=${randomUUID()}`);
    const answer = await new Promise<BatchAnswer>((resolve, reject) => {
      const req = request(
        {
          host: url.hostname,
          port: url.port,
          path: url.pathname + url.search,
          method: 'PUT',
          headers: { cookie: tomas.cookieHeader(url.pathname), 'content-type': 'application/x-tar' },
        },
        (res) => {
          let text = '';
          res.on('data', (piece) => (text += String(piece)));
          res.on('end', () => resolve(JSON.parse(text) as BatchAnswer));
        },
      );
      req.on('error', reject);
      void (async () => {
        for (let at = 0; at < archive.length; at += 1024) {
          req.write(archive.subarray(at, at + 1024));
          await new Promise((next) => setTimeout(next, 25));
        }
        req.end();
      })();
    });
    expect(answer.entries.map((e) => ('answer' in e ? e.answer.name : e.code))).toEqual(
      Array.from({ length: 12 }, (_, i) => `slow ${i}.txt`),
    );
  });
  it('sent twice at once under one id counts once, and both are told the same', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Twice at once');
    const archive = tarOf({ 'a.txt': Buffer.from('a'), 'Inside/b.txt': Buffer.from('b') });
    for (let round = 0; round < 5; round += 1) {
      const to = await folder(tomas, id, `round ${round}`);
      const batch = randomUUID();
      const answers = await Promise.all([send(tomas, to, archive, batch), send(tomas, to, archive, batch)]);
      expect(answers.map((a) => a.status)).toEqual([200, 200]);
      const [first, second] = await Promise.all(answers.map((a) => a.json()));
      expect(second).toEqual(first);
    }
  });
  it('twins are both kept, each under a name of its own', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Twins');
    const files = {
      'same.txt': Buffer.from('1'),
      'SAME.txt': Buffer.from('2'),
      'Zu\u0308rich.txt': Buffer.from('3'),
      'Z\u00fcrich.txt': Buffer.from('4'),
      'Plan/a.txt': Buffer.from('5'),
      plan: Buffer.from('6'),
    };
    for (const conflict of ['refuse', 'version', 'keep-both']) {
      const to = await folder(tomas, id, conflict);
      const { entries } = (await (await send(tomas, to, tarOf(files), randomUUID(), conflict)).json()) as BatchAnswer;
      expect(entries.map((e) => ('answer' in e ? e.answer.name : e.code))).toEqual([
        'same.txt',
        'SAME (2).txt',
        'Zürich.txt',
        'Zürich (2).txt',
        'a.txt',
        'plan (2)',
      ]);
    }
  });
  it('each is refused by itself, and the rest is kept', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Mixed');
    await tomas.upload(id, 'there.txt', Buffer.from('x'));
    const answer = (await (
      await send(
        tomas,
        id,
        tarOf({
          'there.txt': Buffer.from('y'),
          'new.txt': Buffer.from('z'),
          'what?.txt': Buffer.from('q'),
          'there.txt.d/a.txt': Buffer.from('a'),
        }),
      )
    ).json()) as BatchAnswer;
    expect(answer.entries.map((e) => ('answer' in e ? 'kept' : e.code))).toEqual([
      'name.taken',
      'kept',
      'name.forbidden-character',
      'kept',
    ]);
  });
  it('from several at once into the same new folders: everything arrives', async () => {
    const id = await folder(tomas, office.roots.projects, 'Together');
    const batches = Array.from({ length: 6 }, (_, n) =>
      tarOf(Object.fromEntries(Array.from({ length: 20 }, (_v, i) => [`A/B/${n}-${i}.txt`, Buffer.from(`${i % 3}`)]))),
    );
    expect((await Promise.all(batches.map((b, n) => send(n % 2 ? iris : tomas, id, b)))).map((a) => a.status)).toEqual(
      Array(6).fill(200),
    );
    const [row] = await office.db.query<{ n: number }[]>(
      `SELECT count(*)::int AS n FROM node f JOIN node b ON b.id = f.parent_id WHERE b.name = 'B' AND f.kind = 'file'`,
    );
    expect(row?.n).toBe(120);
  });
  it('from several at once under the same names: one of each is first, and what was asked for is done with the others', async () => {
    const id = await folder(tomas, office.roots.projects, 'Same names');
    const archive = (n: number) =>
      tarOf(Object.fromEntries(Array.from({ length: 15 }, (_v, i) => [`C/${i}.txt`, Buffer.from(`${n} ${i}`)])));
    const told = async (conflict: string) => {
      const to = await folder(tomas, id, conflict);
      const answers = await Promise.all(
        [0, 1, 2, 3].map(async (n) =>
          (await send(n % 2 ? iris : tomas, to, archive(n), randomUUID(), conflict)).json(),
        ),
      );
      const { body } = await tomas.ask<FolderPage>('GET', `/api/folders/${to}`);
      const inside = await tomas.ask<FolderPage>('GET', `/api/folders/${body.items[0]?.id}`);
      const entries = (answers as BatchAnswer[]).flatMap((a) => a.entries);
      return {
        kept: entries.filter((e) => 'answer' in e).length,
        items: inside.body.items,
        folders: body.items.length,
      };
    };
    const refused = await told('refuse');
    // Whoever began before the first had arrived was overtaken, and then both are kept.
    expect([refused.folders, refused.items.length]).toEqual([1, refused.kept]);
    expect(refused.kept).toBeGreaterThanOrEqual(15);
    const both = await told('keep-both');
    expect([both.folders, both.kept, both.items.length]).toEqual([1, 60, 60]);
    expect(new Set(both.items.map((i) => i.name)).size).toBe(60);
  });
  it('what is no archive, cut off, unsafe, empty or too much is refused whole', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Bad batches');
    const good = tarOf({ 'a.txt': Buffer.from('a'), 'b.txt': randomBytes(5000) });
    const code = async (body: Buffer) => ((await (await send(tomas, id, body)).json()) as { code: string }).code;
    expect(await code(good.subarray(0, 3000))).toBe('batch.cut');
    expect(await code(randomBytes(10_000))).toBe('batch.cut');
    expect(await code(Buffer.alloc(1024))).toBe('batch.empty');
    expect(await code(tarOf({ 'a.txt': Buffer.from('a') }, '-P', '--transform=s,^,../../,'))).toBe('batch.entry');
    expect(await code(tarOf({ 'big.bin': randomBytes(1_200_000) }))).toBe('batch.too-large');
    expect((await tomas.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items).toEqual([]);
  });
});

describe('before a byte moves', () => {
  it('a list is looked at whole: names, types, sizes, what is taken, and room for all', async () => {
    const id = await folder(iris, office.roots.projects, 'Checked');
    await iris.upload(id, 'there.pdf', Buffer.from('x'));
    await office.db.query(
      `UPDATE store SET allowed_types = '{pdf,dxf}', largest_file_bytes = 5000, quota_bytes = used_bytes + 12000 WHERE name = 'Projects'`,
    );
    const files = [
      { name: 'a.pdf', sizeBytes: 4000 },
      { name: 'b.exe', sizeBytes: 1 },
      { name: 'c.dxf', sizeBytes: 5001 },
      { name: 'con.pdf', sizeBytes: 1 },
      { name: 'THERE.pdf', sizeBytes: 4000 },
    ];
    const { body } = await iris.ask<CheckAnswer>('POST', `/api/folders/${id}/check-files`, { files });
    expect([body.faults.map((f) => [f.index, f.code]), body.taken, body.room?.code]).toEqual([
      [
        [1, 'type.not-allowed'],
        [2, 'file.too-large'],
        [3, 'name.reserved'],
      ],
      [4],
      'quota.store',
    ]);
    // Asked about in parts, all together still find no room.
    const part = await iris.ask<CheckAnswer>('POST', `/api/folders/${id}/check-files`, {
      files: files.slice(0, 1),
      totalBytes: 12_001,
    });
    expect(part.body.room?.code).toBe('quota.store');
    expect(
      (await iris.ask('POST', `/api/folders/${id}/check-files`, { files: Array(251).fill(files[0]) })).status,
    ).toBe(400);
    // And the rule holds for whoever does not ask first.
    expect((await iris.upload(id, 'b.exe', Buffer.from('x'))).body.code).toBe('type.not-allowed');
    expect((await iris.upload(id, 'c.dxf', randomBytes(5001))).body.code).toBe('file.too-large');
    await office.db.query(`UPDATE store SET allowed_types = '{}', largest_file_bytes = NULL, quota_bytes = NULL`);
  });
});
