import type { Damaged, FolderPage, ServerFolder, StoreSummary, Task } from '@quay/contract';
import { execFileSync, spawn } from 'node:child_process';
import { randomBytes, randomUUID } from 'node:crypto';
import {
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  unlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkInvariants } from '../check/invariants.js';
import { BLOBS } from '../platform/blobs/blob-store.js';
import { folder, names } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { TasksService } from './tasks.service.js';

const base = mkdtempSync(join(tmpdir(), 'quay-adopt-'));
const [root, outside, exports, copy] = ['allowed', 'outside', 'exports', 'copy'].map((name) => join(base, name)) as [
  string,
  string,
  string,
  string,
];
let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  for (const path of [root, outside, exports, copy]) mkdirSync(path);
  office = await openOffice({ importRoots: [root], exportRoot: exports, blobCopyRoot: copy });
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close();
  rmSync(base, { recursive: true });
});

async function done(task: Task): Promise<Task> {
  await office.app.get(TasksService).settled();
  return (await iris.ask<Task[]>('GET', '/api/tasks')).body.find((t) => t.id === task.id) as Task;
}
const blobPath = (sha256: string) => join(office.config.blobRoot, sha256.slice(0, 2), sha256.slice(2, 4), sha256);

describe('adopting a directory', () => {
  it('takes every file with its time, verifies it, follows no link, and reports what it left out', async () => {
    const tree = join(root, 'Old server');
    mkdirSync(join(tree, 'Plans/Deep'), { recursive: true });
    const bytes = randomBytes(70_000);
    writeFileSync(join(tree, 'Plans/Deep/plan.bin'), bytes);
    writeFileSync(join(tree, 'what: a name?.txt'), 'x');
    utimesSync(join(tree, 'Plans/Deep/plan.bin'), 1_600_000_000, 1_600_000_000);
    writeFileSync(join(outside, 'secret.txt'), 'secret');
    symlinkSync(join(outside, 'secret.txt'), join(tree, 'link.txt'));
    symlinkSync(outside, join(tree, 'Plans/linked'));
    execFileSync('mkfifo', [join(tree, 'pipe')]);
    expect(
      (await iris.ask<ServerFolder>('GET', `/api/import/browse?path=${encodeURIComponent(tree)}`)).body,
    ).toMatchObject({ folders: ['Plans'], files: 1 });
    const { body: task } = await iris.ask<Task>('POST', '/api/import', { path: tree, folderId: office.roots.projects });
    const { state, report } = await done(task);
    expect([state, report?.files, report?.verified]).toEqual(['done', 2, 2]);
    expect(report?.notes.map((n) => n.why).sort()).toEqual([
      'is a special file',
      'is a symbolic link, which is not followed',
      'is a symbolic link, which is not followed',
      'is called "what_ a name_.txt" here, so that every desktop can hold it',
    ]);
    const { body: page } = await iris.ask<FolderPage>('GET', `/api/folders/${office.roots.projects}`);
    expect(page.items.map((i) => i.name)).toEqual(['Old server']);
    const [row] = await office.db.query<{ modified_at: Date }[]>(
      `SELECT v.modified_at FROM file_version v JOIN node n ON n.id = v.node_id WHERE n.name = 'plan.bin'`,
    );
    expect(row?.modified_at.getTime()).toBe(1_600_000_000_000);
    // A second time everything is there already.
    const again = await done(
      (await iris.ask<Task>('POST', '/api/import', { path: tree, folderId: office.roots.projects })).body,
    );
    expect([again.report?.files, again.report?.notes.filter((n) => n.why === 'is there already').length]).toEqual([
      0, 2,
    ]);
  });
  it('a folder that is swapped for a link while it is read leads nowhere', async () => {
    const tree = join(root, 'Swapped');
    const spot = join(tree, 'm spot');
    const aside = join(tree, 'z aside');
    mkdirSync(spot, { recursive: true });
    for (let n = 0; n < 150; n += 1) writeFileSync(join(spot, `inside ${n}.txt`), `inside ${n}`);
    for (let n = 0; n < 60; n += 1) writeFileSync(join(outside, `outside ${n}.txt`), `outside ${n}`);
    const swapper = spawn('sh', [
      '-c',
      'while :; do mv "$1" "$2"; ln -s "$3" "$1"; rm "$1"; mv "$2" "$1"; done',
      'sh',
      spot,
      aside,
      outside,
    ]);
    for (let round = 0; round < 6; round += 1) {
      const asked = await iris.ask<Task>('POST', '/api/import', {
        path: tree,
        folderId: await folder(iris, office.roots.iris, `Swap ${round}`),
      });
      if (asked.status === 201) await done(asked.body);
    }
    swapper.kill();
    await new Promise((resolve) => swapper.once('exit', resolve));
    const found = await office.db.query<{ name: string }[]>(
      `SELECT name FROM node WHERE name LIKE 'outside %' OR name = 'secret.txt'`,
    );
    expect(found).toEqual([]);
    // What the shell had begun last ends a moment after it.
    rmSync(tree, { recursive: true, force: true, maxRetries: 10, retryDelay: 100 });
  });
  it('twins are both kept, each under a name of its own, and told', async () => {
    const tree = join(root, 'Twins');
    mkdirSync(tree);
    for (const [name, words] of [
      ['same.txt', 'one'],
      ['SAME.txt', 'two'],
      ['Zu\u0308rich.txt', 'three'],
      ['Z\u00fcrich.txt', 'four'],
    ] as const)
      writeFileSync(join(tree, name), words);
    mkdirSync(join(tree, 'Plan'));
    writeFileSync(join(tree, 'Plan/a.txt'), 'a');
    writeFileSync(join(tree, 'plan'), 'a file of that name');
    const to = await folder(iris, office.roots.iris, 'For twins');
    const { report, state } = await done(
      (await iris.ask<Task>('POST', '/api/import', { path: tree, folderId: to })).body,
    );
    expect([state, report?.files]).toEqual(['done', 6]);
    const [twins] = (await iris.ask<FolderPage>('GET', `/api/folders/${to}`)).body.items;
    expect((await names(iris, twins?.id as string)).sort()).toEqual([
      'Plan',
      'SAME.txt',
      'Zürich (2).txt',
      'Zürich.txt',
      'plan (2)',
      'same (2).txt',
    ]);
    expect(report?.notes.filter((n) => n.why.includes('twin'))).toHaveLength(3);
  });
  it('only within the allowed roots, by the real path, and only by the admin', async () => {
    symlinkSync(outside, join(root, 'way-out'));
    for (const path of [
      outside,
      '/etc',
      join(root, '../outside'),
      join(root, 'way-out'),
      join(root, 'nowhere'),
      `${root}-more`,
    ])
      expect((await iris.ask('POST', '/api/import', { path, folderId: office.roots.projects })).body.code).toBe(
        'import.not-allowed',
      );
    const tomas = await office.signedIn('tomas');
    expect((await tomas.ask('POST', '/api/import', { path: root, folderId: office.roots.tomas })).body.code).toBe(
      'duty.missing',
    );
    expect((await tomas.ask('GET', '/api/tasks')).body.code).toBe('duty.missing');
  });
});

describe('exporting a store', () => {
  it('names of our lists are kept for what bears them, and what the disk cannot hold is named', async () => {
    const id = await folder(iris, office.roots.partners, 'Lists');
    await iris.upload(office.roots.partners, 'SHA256SUMS', Buffer.from('mine'));
    await iris.upload(id, 'SHA256SUMS', Buffer.from('below'));
    const storeId = (await iris.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === 'Partners')?.id;
    const ids = [id, ...Array.from({ length: 400 }, () => randomUUID())];
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT id, $1, parent, 'folder', 'a deep folder', 'a deep folder', $2, $2 FROM unnest($3::uuid[], $4::uuid[]) AS t (id, parent)`,
      [storeId, office.clock.date(), ids.slice(1), ids.slice(0, -1)],
    );
    const { state, report } = await done((await iris.ask<Task>('POST', '/api/export', { storeId })).body);
    expect([state, report?.files]).toEqual(['done', 2]);
    expect(report?.notes.length).toBeGreaterThan(50);
    expect(report?.notes[0]?.why).toContain('4096');
    const target = join(exports, readdirSync(exports)[0] as string);
    expect(readFileSync(join(target, 'SHA256SUMS'), 'utf8')).toBe('mine');
    execFileSync('sha256sum', ['--strict', '--quiet', '-c', 'SHA256SUMS (2)'], { cwd: target });
    expect(await office.db.query('SELECT actor_name FROM ledger_entry WHERE kind = $1', ['store.exported'])).toEqual([
      { actor_name: 'Iris Ward' },
    ]);
    rmSync(target, { recursive: true });
  });
  it('makes plain folders with times and a manifest that sha256sum -c passes', async () => {
    const store = (await iris.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === 'Projects');
    const { state, report } = await done((await iris.ask<Task>('POST', '/api/export', { storeId: store?.id })).body);
    expect([state, report?.files]).toEqual(['done', 2]);
    const target = join(exports, readdirSync(exports)[0] as string);
    expect(execFileSync('sha256sum', ['-c', 'SHA256SUMS'], { cwd: target }).toString()).toMatch(/plan\.bin: OK/);
    expect(statSync(join(target, 'Old server/Plans/Deep/plan.bin')).mtimeMs).toBe(1_600_000_000_000);
    expect(
      readFileSync(join(target, 'manifest.jsonl'), 'utf8')
        .trim()
        .split('\n')
        .map((l) => Object.keys(JSON.parse(l) as object)),
    ).toEqual(Array(2).fill(['path', 'sizeBytes', 'sha256', 'modifiedAt']));
  });
});

describe('the scrubber', () => {
  it('finds what is damaged or missing, restores it from the second copy, and marks what has none', async () => {
    const [flipped, cut, lost] = [randomBytes(3000), randomBytes(3000), randomBytes(3000)];
    const files = await Promise.all(
      [
        ['flipped.bin', flipped],
        ['cut.bin', cut],
        ['lost.bin', lost],
      ].map(async ([name, bytes]) => (await iris.upload(office.roots.iris, name as string, bytes as Buffer)).body),
    );
    const [a, b, c] = files as [(typeof files)[0], (typeof files)[0], (typeof files)[0]];
    mkdirSync(join(copy, a.sha256.slice(0, 2), a.sha256.slice(2, 4)), { recursive: true });
    writeFileSync(join(copy, a.sha256.slice(0, 2), a.sha256.slice(2, 4), a.sha256), flipped);
    // A copy that is damaged too is no copy.
    mkdirSync(join(copy, b.sha256.slice(0, 2), b.sha256.slice(2, 4)), { recursive: true });
    writeFileSync(join(copy, b.sha256.slice(0, 2), b.sha256.slice(2, 4), b.sha256), randomBytes(3000));
    const wrong = Buffer.from(flipped);
    wrong[1500] = (wrong[1500] as number) ^ 1;
    writeFileSync(blobPath(a.sha256), wrong);
    truncateSync(blobPath(b.sha256), 1000);
    unlinkSync(blobPath(c.sha256));
    const { report } = await done((await iris.ask<Task>('POST', '/api/scrub')).body);
    expect(report?.words).toContain('2 damaged, 1 restored from the second copy');
    expect(readdirSync(join(office.config.blobRoot, 'tmp'))).toEqual([]);
    expect(Buffer.from(await (await iris.fetch(`/api/files/${a.id}/content`)).arrayBuffer()).equals(flipped)).toBe(
      true,
    );
    expect((await iris.ask<Damaged>('GET', '/api/damaged')).body.versions.map((d) => d.name).sort()).toEqual([
      'cut.bin',
      'lost.bin',
    ]);
    expect((await iris.ask('GET', `/api/nodes/${c.id}`)).body['damaged']).toBe(true);
    expect((await iris.ask('GET', `/api/files/${c.id}/content`)).body.code).toBe('blob.missing');
    // The same bytes uploaded again heal what had lost them.
    await iris.upload(office.roots.iris, 'again.bin', lost);
    await iris.upload(office.roots.iris, 'again 2.bin', cut);
    expect((await iris.ask('GET', '/api/damaged')).body).toEqual({ versions: [], total: 0 });
    expect((await checkInvariants(office.db, office.app.get(BLOBS), true)).violations).toEqual([]);
  });
  it('a folder for blobs that cannot be written to refuses uploads with a clear word and keeps nothing', async () => {
    // Root writes everywhere, so the folder is taken away instead of its permission.
    rmSync(join(office.config.blobRoot, 'tmp'), { recursive: true });
    const answer = await iris.upload(office.roots.iris, 'nowhere.bin', randomBytes(10));
    expect([answer.status, answer.body.code]).toEqual([503, 'disk.unwritable']);
    mkdirSync(join(office.config.blobRoot, 'tmp'));
    expect((await iris.upload(office.roots.iris, 'somewhere.bin', randomBytes(10))).status).toBe(201);
  });
});
