import { execFileSync, fork } from 'node:child_process';
import { randomBytes, randomInt } from 'node:crypto';
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { DataSource } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { freshDatabase, openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { ENTITIES } from '../app.module.js';
import { checkInvariants } from '../check/invariants.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { LOCKS } from '../platform/locks.js';
import { copy } from './copier.js';
import { sourceOf } from './source.js';
import { bringBack } from './copying/bring.js';
import { scratchPrefix } from './copying/database.js';
import { backupsIn, claimFolder, readManifest, requireOwn } from './copying/layout.js';
import { makeBackup, type MakeOrder, type Source } from './copying/make.js';
import type { Rehearsed } from './copying/rehearse.js';
import { identitiesOf, openerWith, ownIdentity } from './copying/sealer.js';
import type { Order } from './program.js';

const base = mkdtempSync(join(tmpdir(), 'quay-backup-'));
const target = join(base, 'backup');
let office: TestOffice;
let iris: Client;
let source: Source;
beforeAll(async () => {
  // It does nothing by itself, so that nothing is written between two looks.
  office = await openOffice({ serves: false });
  iris = await office.signedIn('iris');
  const { identityFile, ...where } = sourceOf(office.config);
  source = { ...where, identity: await ownIdentity(identityFile) };
});
afterAll(async () => {
  await office.close({ broken: 'bytes are cut to see what a backup says' });
  rmSync(base, { recursive: true, force: true });
});
const quietly = () => undefined;
const asked = (at: string, more: Partial<MakeOrder> = {}): MakeOrder => ({
  ...{ target, recipients: [], kept: null, zone: 'UTC', mayClaim: true, verifyAll: false, at },
  ...more,
});
const backup = (at: string, more: Partial<MakeOrder> = {}) => makeBackup(source, asked(at, more), quietly);

/** Brings a backup back into a database and a folder that hold nothing. */
async function broughtBack(from: string, stamp: string, identities: string[] = []) {
  const databaseUrl = await freshDatabase({ empty: true });
  const place = mkdtempSync(join(base, 'restored-'));
  const [blobRoot, keyFile, identityFile] = [join(place, 'blobs'), join(place, 'key'), join(place, 'identity')];
  const order = { source: from, stamp, databaseUrl, blobRoot, keyFile, identityFile };
  return { ...order, brought: await bringBack(order, openerWith(identities), quietly) };
}

/** Every row of every table, as one hash for each table, made by the database itself. */
async function fingerprints(db: DataSource): Promise<Record<string, string>> {
  const tables = await db.query<{ name: string }[]>(
    `SELECT table_name AS name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE' ORDER BY 1`,
  );
  const found: Record<string, string> = {};
  for (const { name } of tables) {
    if (name === 'attempt') continue;
    const [row] = await db.query<{ hash: string }[]>(
      `SELECT coalesce(md5(string_agg(t::text, E'\\n' ORDER BY t::text)), '') AS hash FROM "${name}" t`,
    );
    found[name] = row?.hash ?? '';
  }
  return found;
}

describe('backup and restore', () => {
  it('brings everything back elsewhere: every row, every byte, every link', async () => {
    const { body: a } = await iris.upload(office.roots.projects, 'a.bin', randomBytes(100_000));
    await iris.upload(office.roots.projects, 'a.bin', randomBytes(50_000), '&conflict=version');
    await iris.upload(office.roots.projects, 'same.bin', Buffer.alloc(1000));
    const share = await office.publish(iris, [a.id], { password: 'gravel-heron-silent-oar' });
    expect(await backup('2026-11-24T10:00:00Z')).toMatchObject({ files: 3, copied: 3, damaged: [] });
    const before = await fingerprints(office.db);
    // What comes after the backup is not in it.
    await iris.upload(office.roots.projects, 'later.bin', randomBytes(10));
    const { databaseUrl, blobRoot: blobs, keyFile: key, brought } = await broughtBack(target, '20261124T100000');
    expect(brought).toMatchObject({ files: 3, missing: [] });
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    expect(await fingerprints(db)).toEqual(before);
    expect((await checkInvariants(db, new DiskBlobStore(blobs), true)).violations).toEqual([]);
    // GNU diff compares the bytes (Debian diffutils); the later blob is not part of the backup.
    for (const name of readdirSync(blobs).filter((n) => /^[0-9a-f]{2}$/.test(n)))
      execFileSync('diff', ['-r', join(blobs, name), join(office.config.blobRoot, name)]);
    await db.destroy();
    const second = await openOffice(
      { databaseUrl, blobRoot: blobs, sealingKey: Buffer.from(readFileSync(key, 'utf8'), 'hex') },
      false,
    );
    const visitor = second.client();
    expect((await visitor.ask('POST', `/s/${share.token}/open`, { password: 'gravel-heron-silent-oar' })).status).toBe(
      200,
    );
    expect((await visitor.fetch(`/s/${share.token}/files/${a.id}`)).status).toBe(200);
    await second.close();
  });
  it('copies only what is new, holds the collector off meanwhile, and finds what was damaged in the backup', async () => {
    expect(await backup('2026-11-24T11:00:00Z')).toMatchObject({ files: 4, copied: 1 });
    const damagedOne = readFileSync(join(target, '20261124T110000', 'blobs.txt'), 'utf8')
      .split('\n')
      .map((l) => l.split(' '))
      .find(([, size]) => size === '50000')?.[0] as string;
    const path = join(target, 'blobs', damagedOne.slice(0, 2), damagedOne.slice(2, 4), damagedOne);
    const bytes = readFileSync(path);
    bytes[7] = (bytes[7] as number) ^ 1;
    writeFileSync(path, bytes);
    expect(await backup('2026-11-24T12:00:00Z')).toMatchObject({ copied: 0 });
    expect(await backup('2026-11-24T13:00:00Z', { verifyAll: true })).toMatchObject({ copied: 1 });
    expect(await backupsIn(target)).toHaveLength(4);
    const [{ held }] = (await office.db.query('SELECT pg_advisory_lock_shared($1) IS NOT NULL AS held', [
      LOCKS.blobsStay,
    ])) as [{ held: boolean }];
    expect(held).toBe(true);
    expect(await office.app.get(BlobKeeper).collect()).toEqual({ removed: 0, bytes: 0 });
  });
  it('a blob that is missing here is told, and the rest is backed up', async () => {
    const { body } = await iris.upload(office.roots.iris, 'lost.bin', randomBytes(3000));
    truncateSync(join(office.config.blobRoot, body.sha256.slice(0, 2), body.sha256.slice(2, 4), body.sha256), 10);
    expect(await backup('2026-11-24T14:00:00Z')).toMatchObject({ damaged: [body.sha256] });
  });
  it('a damaged backup is refused before anything is touched', async () => {
    appendFileSync(join(target, '20261124T110000', 'blobs.txt'), 'x\n');
    const databaseUrl = await freshDatabase({ empty: true });
    const nowhere = { blobRoot: join(base, 'no'), keyFile: join(base, 'no-key'), identityFile: join(base, 'no-id') };
    await expect(
      bringBack({ source: target, stamp: '20261124T110000', databaseUrl, ...nowhere }, openerWith([]), quietly),
    ).rejects.toMatchObject({ code: 'backup.damaged' });
    expect(existsSync(nowhere.blobRoot)).toBe(false);
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    expect(await fingerprints(db)).toEqual({});
    await db.destroy();
  });
});

describe('an encrypted backup', () => {
  const at = '2026-11-25T10:00:00Z';
  const folder = join(base, 'sealed');
  const keyFile = join(base, 'held-elsewhere.txt');
  let recipient: string;

  it('says nothing of what it holds, and opens with age and pg_restore alone (Debian packages age, postgresql)', async () => {
    execFileSync('age-keygen', ['-o', keyFile], { stdio: 'ignore' });
    recipient = execFileSync('age-keygen', ['-y', keyFile], { encoding: 'utf8' }).trim();
    const secret = Buffer.from('The weir house at low water, in words that nobody else has.'.repeat(20));
    const { body } = await iris.upload(office.roots.projects, 'weir-house.txt', secret);
    await iris.upload(office.roots.projects, 'empty.txt', Buffer.alloc(0));
    await iris.upload(office.roots.projects, 'exact.bin', randomBytes(2 * 65_536));
    const made = await backup(at, { target: folder, recipients: [recipient] });
    expect(made.copied).toBe(made.files - made.damaged.length);
    const files = readdirSync(folder, { recursive: true, withFileTypes: true }).filter((f) => f.isFile());
    for (const { parentPath, name } of files) {
      expect(name).not.toContain(body.sha256);
      const bytes = readFileSync(join(parentPath, name));
      for (const plain of ['weir-house', 'The weir house', body.sha256]) expect(bytes.includes(plain)).toBe(false);
      expect(name.endsWith('.age') || ['manifest.json', 'lockfast-quay-backups.json'].includes(name)).toBe(true);
    }
    const open = (path: string) =>
      execFileSync('age', ['-d', '-i', keyFile, path], { maxBuffer: 1e9, stdio: ['ignore', 'pipe', 'inherit'] });
    const dump = open(join(folder, made.stamp, 'database.dump.age'));
    const listed = execFileSync('pg_restore', ['--list'], { input: dump, encoding: 'utf8' });
    for (const table of ['node', 'file_version', 'share', 'ledger_entry'])
      expect(listed).toContain(`TABLE DATA public ${table} quay`);
    const line = open(join(folder, made.stamp, 'blobs.txt.age'))
      .toString()
      .split('\n')
      .find((l) => l.startsWith(body.sha256));
    const name = line?.split(' ')[2] ?? '';
    expect(open(join(folder, 'blobs', name.slice(0, 2), name.slice(2, 4), name))).toEqual(secret);
    expect(open(join(folder, made.stamp, 'sealing-key.age')).toString()).toBe(office.config.sealingKey.toString('hex'));
  });
  it('copies only what is new, and everything anew for somebody else', async () => {
    expect(await backup('2026-11-25T11:00:00Z', { target: folder, recipients: [recipient] })).toMatchObject({
      copied: 0,
    });
    const other = execFileSync('age-keygen', [], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });
    const otherRecipient = /age1\S+/.exec(other)?.[0] as string;
    const more = await backup('2026-11-25T12:00:00Z', { target: folder, recipients: [recipient, otherRecipient] });
    expect(more.copied).toBe(more.files - more.damaged.length);
  });
  it('comes back with the key alone, on another machine, and with the key of the server', async () => {
    const identities = await identitiesOf(keyFile);
    for (const keys of [identities, [source.identity]]) {
      const { brought, keyFile: key, identityFile } = await broughtBack(folder, '20261125T100000', keys);
      expect(brought.files).toBeGreaterThan(3);
      expect(readFileSync(key, 'utf8')).toBe(office.config.sealingKey.toString('hex'));
      // Whoever goes on there can read what lies in the folder.
      expect(await identitiesOf(identityFile)).toEqual([source.identity]);
    }
    await expect(broughtBack(folder, '20261125T100000', [])).rejects.toMatchObject({ code: 'backup.sealed' });
    const stranger = execFileSync('age-keygen', [], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });
    const strange = /AGE-SECRET-KEY-1\S+/.exec(stranger)?.[0] as string;
    await expect(broughtBack(folder, '20261125T100000', [strange])).rejects.toMatchObject({ code: 'backup.sealed' });
  });
});

describe('what is kept', () => {
  it('goes by days, weeks and months; bytes that no backup needs any more go with the last of them', async () => {
    const folder = join(base, 'kept');
    const kept = { days: 2, weeks: 0, months: 0 };
    const { body } = await iris.upload(office.roots.projects, 'short-lived.bin', randomBytes(5000));
    await backup('2026-11-20T22:00:00Z', { target: folder, kept });
    await iris.ask('POST', '/api/trash', { nodeIds: [body.id] });
    await iris.ask('POST', '/api/trash/purge', { nodeIds: [body.id] });
    const path = join(folder, 'blobs', body.sha256.slice(0, 2), body.sha256.slice(2, 4), body.sha256);
    expect((await backup('2026-11-21T22:00:00Z', { target: folder, kept })).removed).toEqual([]);
    expect(existsSync(path)).toBe(true);
    expect((await backup('2026-11-22T22:00:00Z', { target: folder, kept })).removed).toEqual(['20261120T220000']);
    expect(existsSync(path)).toBe(false);
    const { brought } = await broughtBack(folder, '20261121T220000');
    expect(brought.files).toBeGreaterThan(3);
    // One whose list cannot be read may need any of them.
    appendFileSync(join(folder, '20261122T220000', 'manifest.json'), 'x');
    await expect(backup('2026-11-24T22:00:00Z', { target: folder, kept })).rejects.toMatchObject({
      code: 'backup.damaged',
    });
    expect(await backupsIn(folder)).toHaveLength(3);
  });
});

describe('a folder for backups', () => {
  it('is not taken when it is not mounted, holds other things, or is of another office; one at a time', async () => {
    const empty = join(base, 'not-mounted');
    mkdirSync(empty);
    const refused = (folder: string, mayClaim: boolean) =>
      expect(backup('2026-11-26T10:00:00Z', { target: folder, mayClaim })).rejects;
    await refused(empty, false).toMatchObject({ code: 'backup.not-mounted' });
    expect(readdirSync(empty)).toEqual([]);
    writeFileSync(join(empty, 'holiday.jpg'), '');
    await refused(empty, true).toMatchObject({ code: 'backup.not-empty' });
    const others = join(base, 'others');
    await claimFolder(others, 'another');
    await refused(others, true).toMatchObject({ code: 'backup.of-another' });
    await expect(requireOwn(others, 'another')).resolves.toBeUndefined();
    await office.db.transaction(async (tx) => {
      await tx.query('SELECT pg_advisory_xact_lock($1)', [LOCKS.backup]);
      await refused(target, true).toMatchObject({ code: 'backup.busy' });
    });
    const [{ id }] = (await office.db.query('SELECT uid AS id FROM office')) as [{ id: string }];
    await expect(claimFolder('/proc/none', id)).rejects.toMatchObject({ code: 'ENOENT' });
  });
  it('that is full says so before anything is written, and keeps what it has (tmpfs of Linux)', async () => {
    // A file system of its own needs to be root; as somebody else the same is told of a quota.
    if (process.getuid?.() !== 0) return;
    const small = join(base, 'small');
    mkdirSync(small);
    execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=70m', 'tmpfs', small]);
    try {
      await expect(backup('2026-11-26T11:00:00Z', { target: small })).rejects.toMatchObject({
        code: 'backup.target-full',
      });
      expect(await backupsIn(small)).toEqual([]);
    } finally {
      execFileSync('umount', [small]);
    }
  });
});

describe('bringing back, rehearsed', () => {
  const rehearsed = (after: string | null = null, mostBytes = 1e9) => {
    const order: Order = {
      kind: 'rehearse',
      source: sourceOf(office.config),
      rehearse: { target: join(base, 'sealed'), after, mostBytes },
    };
    return copy<Rehearsed>(order, () => Promise.resolve());
  };
  const databases = () =>
    office.db.query<unknown[]>('SELECT 1 FROM pg_database WHERE starts_with(datname, $1)', [
      scratchPrefix(office.config.databaseUrl),
    ]);

  it('makes a database beside that of the office, reads all bytes in turns, and leaves nothing', async () => {
    await backup('2026-11-27T09:00:00Z', { target: join(base, 'sealed'), recipients: [] });
    const all = await rehearsed();
    expect(all.words).toMatch(/^The database came back with \d+ versions of files, and everything in it holds\./);
    const first = await rehearsed(null, 1);
    expect(first.read).toBe(1);
    const rest = await rehearsed(first.after, 1e9);
    expect(rest).toMatchObject({ read: all.read, after: first.after });
    expect(await databases()).toEqual([]);
  });
  it('finds bytes that went bad, and a database in which something does not hold', async () => {
    const { name, parentPath } = readdirSync(join(base, 'sealed', 'blobs'), { recursive: true, withFileTypes: true })
      .filter((f) => f.isFile() && !f.name.endsWith('.age'))
      .find((f) => statSync(join(f.parentPath, f.name)).size > 0) as { name: string; parentPath: string };
    const bytes = readFileSync(join(parentPath, name));
    bytes[0] = (bytes[0] as number) ^ 1;
    writeFileSync(join(parentPath, name), bytes);
    await expect(rehearsed()).rejects.toMatchObject({ code: 'backup.damaged', message: expect.stringContaining(name) });
    await office.db.query(`UPDATE store SET used_bytes = used_bytes + 1 WHERE name = 'Projects'`);
    await backup('2026-11-27T09:30:00Z', { target: join(base, 'sealed'), recipients: [], verifyAll: true });
    await expect(rehearsed()).rejects.toMatchObject({ code: 'backup.does-not-hold' });
    await office.db.query(`UPDATE store SET used_bytes = used_bytes - 1 WHERE name = 'Projects'`);
    expect(await databases()).toEqual([]);
  });
});

/** More by QUAY_KILLS=30. */
const KILLS = Number(process.env['QUAY_KILLS'] ?? 5);

describe('a backup that is killed', () => {
  it('at many moments leaves what was there whole, and the next one is made', { timeout: 300_000 }, async () => {
    const folder = join(base, 'killed');
    for (let n = 0; n < 40; n += 1) await iris.upload(office.roots.iris, `k${n}.bin`, randomBytes(randomInt(200_000)));
    const kept = { days: 2, weeks: 0, months: 0 };
    const began = performance.now();
    const first = await backup('2026-10-01T10:00:00Z', { target: folder, kept });
    const tookMs = performance.now() - began;
    let done = 0;
    for (let n = 0; n < KILLS; n += 1) {
      await iris.upload(office.roots.iris, `later${n}.bin`, randomBytes(50_000));
      const at = new Date(Date.parse('2026-10-02T10:00:00Z') + n * 86_400_000).toISOString();
      const order: Order = {
        kind: 'make',
        source: sourceOf(office.config),
        make: asked(at, { target: folder, kept, recipients: n % 2 ? [] : [await recipientOf()] }),
      };
      if (await killedAfter(order, randomInt(Math.ceil(tookMs + 600)))) done += 1;
      const stamps = await backupsIn(folder);
      expect(stamps.length).toBeGreaterThan(0);
      for (const stamp of stamps) await readManifest(join(folder, stamp));
    }
    for (const stamp of await backupsIn(folder)) {
      const { brought } = await broughtBack(folder, stamp, [source.identity]);
      expect(brought.missing).toEqual(stamp === first.stamp ? first.damaged : expect.any(Array));
      expect(brought.missing.length).toBe(first.damaged.length);
    }
    expect(done).toBeLessThan(KILLS);
    const last = await backup('2026-11-30T10:00:00Z', { target: folder, kept });
    expect(last.files).toBeGreaterThan(first.files + KILLS - 1);
    expect(readdirSync(folder).sort()).toEqual(
      ['blobs', 'lockfast-quay-backups.json', ...(await backupsIn(folder))].sort(),
    );
    const { brought } = await broughtBack(folder, last.stamp);
    expect(brought.missing).toEqual(last.damaged);
  });
});

let recipient: string | undefined;
const recipientOf = () =>
  Promise.resolve(
    (recipient ??= /age1\S+/.exec(
      execFileSync('age-keygen', [], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] }),
    )?.[0] as string),
  );

/** @returns whether it was done before it was killed (SIGKILL, of the whole group: pg_dump, too) */
function killedAfter(order: Order, ms: number): Promise<boolean> {
  const child = fork(resolve(import.meta.dirname, '../../dist/backups/program.js'), [], {
    detached: true,
    execArgv: [],
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
  });
  return new Promise((resolve) => {
    let done = false;
    child.on('message', (said: object) => (done ||= 'done' in said));
    child.once('exit', () => resolve(done));
    child.send(order);
    setTimeout(() => child.pid !== undefined && child.exitCode === null && process.kill(-child.pid, 'SIGKILL'), ms);
  });
}
