import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { appendFileSync, mkdtempSync, readdirSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { DataSource } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ENTITIES } from '../app.module.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { LOCKS } from '../platform/locks.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { freshDatabase, openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { checkInvariants } from './invariants.js';

interface BackedUp {
  folder: string;
  blobs: number;
  copied: number;
  damaged: string[];
}
const { backUp, bringBack, backupsIn } = (await import(
  resolve(import.meta.dirname, '../../../../scripts/lib/backups.mjs')
)) as {
  backUp: (what: object) => Promise<BackedUp>;
  bringBack: (what: object) => Promise<{ blobs: number; missing: string[] }>;
  backupsIn: (folder: string) => string[];
};
const base = mkdtempSync(join(tmpdir(), 'quay-backup-'));
const target = join(base, 'backup');
let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  writeFileSync(join(base, 'key'), office.config.sealingKey.toString('hex'));
});
afterAll(async () => {
  await office.close({ broken: 'bytes are cut to see what a backup says' });
  rmSync(base, { recursive: true, force: true });
});
const backup = (at: string, verifyAll = false) =>
  backUp({
    databaseUrl: office.config.databaseUrl,
    blobs: office.config.blobRoot,
    key: join(base, 'key'),
    target,
    verifyAll,
    now: new Date(at),
  });

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
    // What the server does by itself after its start is done, so that nothing is written between the two looks.
    for (const name of ['upkeep', 'previews'] as const)
      await expect.poll(() => office.app.get(Jobs).waiting(name), { timeout: 20_000 }).toBe(0);
    expect(await backup('2026-11-24T10:00:00Z')).toMatchObject({ blobs: 3, copied: 3, damaged: [] });
    const before = await fingerprints(office.db);
    // What comes after the backup is not in it.
    await iris.upload(office.roots.projects, 'later.bin', randomBytes(10));
    const [databaseUrl, blobs, key] = [
      await freshDatabase({ empty: true }),
      join(base, 'restored'),
      join(base, 'restored-key'),
    ];
    expect(await bringBack({ source: target, stamp: '20261124T100000', databaseUrl, blobs, key })).toMatchObject({
      blobs: 3,
      missing: [],
    });
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    expect(await fingerprints(db)).toEqual(before);
    expect((await checkInvariants(db, new DiskBlobStore(blobs), true)).violations).toEqual([]);
    // GNU diff compares the bytes (Debian diffutils); the later blob and the previews are not part of the backup.
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
    expect(await backup('2026-11-24T11:00:00Z')).toMatchObject({ blobs: 4, copied: 1 });
    const damagedOne = readFileSync(join(target, '20261124T110000', 'blobs.txt'), 'utf8')
      .split('\n')
      .map((l) => l.split(' '))
      .find(([, size]) => size === '50000')?.[0] as string;
    const path = join(target, 'blobs', damagedOne.slice(0, 2), damagedOne.slice(2, 4), damagedOne);
    const bytes = readFileSync(path);
    bytes[7] = (bytes[7] as number) ^ 1;
    writeFileSync(path, bytes);
    expect(await backup('2026-11-24T12:00:00Z')).toMatchObject({ copied: 0 });
    expect(await backup('2026-11-24T13:00:00Z', true)).toMatchObject({ copied: 1 });
    expect(backupsIn(target)).toHaveLength(4);
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
    await expect(
      bringBack({
        source: target,
        stamp: '20261124T110000',
        databaseUrl,
        blobs: join(base, 'no'),
        key: join(base, 'no-key'),
      }),
    ).rejects.toThrow('is damaged');
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    expect(await fingerprints(db)).toEqual({});
    await db.destroy();
  });
});
