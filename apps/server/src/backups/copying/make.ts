import { backupsKept, formatSize, TARGET_FULL, type BackupsKept } from '@quay/core';
import { existsSync } from 'node:fs';
import { mkdir, readdir, readFile, rename, rm, stat, statfs, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import pg from 'pg';
import { LOCKS } from '../../platform/locks.js';
import { flush, hashOf, isWhole, read, write } from './bytes.js';
import { dump, list } from './database.js';
import { BackupFault } from './fault.js';
import {
  backupsIn,
  blobPath,
  claimFolder,
  listedIn,
  listText,
  makingFolder,
  MANIFEST,
  momentOf,
  readManifest,
  requireOwn,
  shelfOf,
  stampOf,
  type Listed,
  type Manifest,
} from './layout.js';
import { openerWith, sealerFor, type Opener, type Sealer } from './sealer.js';

export interface Source {
  databaseUrl: string;
  /** The folder of the blob store, unless the office says another. */
  blobRoot: string;
  keyFile: string;
  /** The server's own identity (age). */
  identity: string;
}

export interface MakeOrder {
  target: string;
  recipients: readonly string[];
  /** Which stay; null: all. */
  kept: BackupsKept | null;
  /** The office's zone: whose days are counted. */
  zone: string;
  /** Whether the folder may be one that holds no backup yet. */
  mayClaim: boolean;
  /** Reads what is there already against its checksums, too. */
  verifyAll: boolean;
  /** ISO 8601. */
  at: string;
}

export interface Made {
  stamp: string;
  files: number;
  bytes: number;
  copied: number;
  copiedBytes: number;
  /** What is missing or damaged here, as SHA-256. */
  damaged: string[];
  /** Backups that were removed, because what is kept says so. */
  removed: string[];
}

export interface Step {
  words: string;
  done: number;
  total: number | null;
  bytes: number;
}
export type Tell = (step: Step) => void;

/** Bytes of a disk that are left free. */
const LEFT_FREE = 64 * 1024 * 1024;

/**
 * Copies the database as one snapshot, and every blob that it refers to and that is not there yet; reads back what was
 * written; then removes what is not to be kept. Interrupted anywhere, what was there before is there still.
 * @throws BackupFault
 */
export async function makeBackup(source: Source, order: MakeOrder, tell: Tell): Promise<Made> {
  return withLocks(source.databaseUrl, async (client) => {
    const { office, blobRoot, schema } = await factsOf(client, source);
    await (order.mayClaim ? claimFolder : requireOwn)(order.target, office);
    const stamp = stampOf(new Date(order.at));
    const folder = join(order.target, stamp);
    if (existsSync(folder)) throw new BackupFault('backup.there-already', `there is a backup of this second already.`);
    const key = Buffer.from((await readFile(source.keyFile, 'utf8')).trim(), 'hex');
    const sealer = await sealerFor(order.recipients, source.identity, key);
    const work = new Work(source, order, client, sealer, openerWith([source.identity]), tell);
    await work.begin();
    const listed = await work.blobs();
    await work.requireRoom(listed);
    const files = await work.database();
    const { copied, copiedBytes, damaged } = await work.copyAll(listed, blobRoot);
    const bytes = listed.reduce((sum, b) => sum + b.sizeBytes, 0);
    const manifest = { at: order.at, schema, recipients: [...order.recipients], blobs: listed.length, bytes, damaged };
    await work.finish(folder, { ...manifest, files: { ...files, ...(await work.lists(listed)) } });
    const removed = order.kept
      ? await tidy(order.target, order.kept, order.zone, openerWith([source.identity]), tell)
      : [];
    return { stamp, files: listed.length, bytes, copied, copiedBytes, damaged, removed };
  });
}

/** One backup or rehearsal at a time, and no blob is removed meanwhile. @throws BackupFault backup.busy */
export async function withLocks<T>(databaseUrl: string, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client({ connectionString: databaseUrl });
  await client.connect();
  // A connection that is lost fails the next query.
  client.on('error', () => undefined);
  try {
    const { rows } = await client.query<{ held: boolean }>('SELECT pg_try_advisory_lock($1) AS held', [LOCKS.backup]);
    if (!rows[0]?.held)
      throw new BackupFault('backup.busy', 'a backup is being made, or rehearsed. Wait until it is done.');
    // First the lock, then the snapshot: what the snapshot refers to cannot go while it is copied.
    await client.query('SELECT pg_advisory_lock_shared($1)', [LOCKS.blobsStay]);
    return await work(client);
  } finally {
    await client.end();
  }
}

/** What the database says of itself; opens the snapshot. */
async function factsOf(
  client: pg.Client,
  source: Source,
): Promise<{ office: string; blobRoot: string; schema: string }> {
  await client.query('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
  const { rows } = await client.query<{ id: string; blob_root: string | null }>(
    'SELECT uid AS id, blob_root FROM office',
  );
  const [office] = rows;
  if (!office) throw new BackupFault('backup.no-office', 'there is no office yet.');
  const migrations = await client.query<{ name: string }>(
    'SELECT name FROM migrations ORDER BY timestamp DESC LIMIT 1',
  );
  return {
    office: office.id,
    // Where bytes lie may have been said on the screen.
    blobRoot: office.blob_root ?? source.blobRoot,
    schema: migrations.rows[0]?.name ?? '',
  };
}

class Work {
  private readonly making: string;

  constructor(
    private readonly source: Source,
    private readonly order: MakeOrder,
    private readonly client: pg.Client,
    private readonly sealer: Sealer,
    private readonly open: Opener,
    private readonly tell: Tell,
  ) {
    this.making = makingFolder(order.target);
  }

  /** What one that was interrupted left goes. */
  async begin(): Promise<void> {
    await rm(this.making, { recursive: true, force: true });
    await mkdir(join(this.making, 'backup'), { recursive: true, mode: 0o700 });
  }

  async blobs(): Promise<Listed[]> {
    const { rows } = await this.client.query<{ hex: string; size: number }>(
      `SELECT encode(b.sha256, 'hex') AS hex, b.size_bytes::float8 AS size FROM blob b
        WHERE EXISTS (SELECT 1 FROM file_version v WHERE v.sha256 = b.sha256)
          OR EXISTS (SELECT 1 FROM deposit_file d WHERE d.blob_sha256 = b.sha256) ORDER BY b.sha256`,
    );
    return rows.map(({ hex, size }) => ({ sha256: hex, sizeBytes: size, name: this.sealer.nameOf(hex) }));
  }

  /** @throws BackupFault backup.target-full, before anything is written */
  async requireRoom(listed: Listed[]): Promise<void> {
    const missing = listed.filter((b) => !existsSync(blobPath(this.order.target, b.name)));
    const { rows } = await this.client.query<{ size: number }>(
      'SELECT pg_database_size(current_database())::float8 AS size',
    );
    const needed = missing.reduce((sum, b) => sum + this.sealer.sizeOf(b.sizeBytes), rows[0]?.size ?? 0) + LEFT_FREE;
    const { bavail, bsize } = await statfs(this.order.target);
    if (bavail * bsize < needed)
      throw new BackupFault(
        TARGET_FULL,
        `${formatSize(needed)} are needed, and ${formatSize(bavail * bsize)} are free.`,
      );
  }

  /** @returns the SHA-256 of the dump as it lies there, by its name */
  async database(): Promise<Record<string, string>> {
    this.tell({ words: 'Copies the database', done: 0, total: null, bytes: 0 });
    const { rows } = await this.client.query<{ snapshot: string }>('SELECT pg_export_snapshot() AS snapshot');
    const { bytes, ended } = dump(this.source.databaseUrl, rows[0]?.snapshot ?? '');
    const [written] = await Promise.all([this.write('database.dump', bytes), ended]);
    return written;
  }

  /** The list of blobs, and the key without which links and passwords of the office mean nothing. */
  async lists(listed: Listed[]): Promise<Record<string, string>> {
    return {
      ...(await this.write('blobs.txt', Readable.from([Buffer.from(listText(listed))]))),
      ...(await this.write('sealing-key', read(this.source.keyFile))),
      // Who brings this back elsewhere can read the older ones there, too.
      ...(this.sealer.suffix === ''
        ? {}
        : await this.write('identity', Readable.from([Buffer.from(`${this.source.identity}\n`)]))),
    };
  }

  private async write(name: string, bytes: Readable): Promise<Record<string, string>> {
    const path = join(this.making, 'backup', name + this.sealer.suffix);
    const written = await write(bytes, { path, making: `${path}.making` }, this.sealer, null);
    return { [name + this.sealer.suffix]: written?.stored ?? '' };
  }

  async copyAll(
    listed: Listed[],
    blobRoot: string,
  ): Promise<{ copied: number; copiedBytes: number; damaged: string[] }> {
    const fresh: Listed[] = [];
    const damaged: string[] = [];
    let bytes = 0;
    for (const [index, blob] of listed.entries()) {
      bytes += blob.sizeBytes;
      this.tell({ words: 'Copies what is new', done: index + 1, total: listed.length, bytes });
      if (await this.isThere(blob)) continue;
      const path = blobPath(this.order.target, blob.name);
      const from = shelfOf(blobRoot, blob.sha256);
      const written = existsSync(from)
        ? await write(read(from), { path, making: join(this.making, 'blob') }, this.sealer, blob.sha256)
        : null;
      if (written) fresh.push(blob);
      else damaged.push(blob.sha256);
    }
    await flush(this.order.target);
    await this.verify(fresh);
    return { copied: fresh.length, copiedBytes: fresh.reduce((sum, b) => sum + b.sizeBytes, 0), damaged };
  }

  private async isThere({ name, sha256, sizeBytes }: Listed): Promise<boolean> {
    const path = blobPath(this.order.target, name);
    const found = await stat(path).catch(() => null);
    if (found?.size !== this.sealer.sizeOf(sizeBytes)) return false;
    return !this.order.verifyAll || isWhole(path, name, sha256, this.open);
  }

  private async verify(blobs: Listed[]): Promise<void> {
    let bytes = 0;
    for (const [index, { name, sha256, sizeBytes }] of blobs.entries()) {
      bytes += sizeBytes;
      this.tell({ words: 'Reads back what was copied', done: index + 1, total: blobs.length, bytes });
      const path = blobPath(this.order.target, name);
      if (await isWhole(path, name, sha256, this.open)) continue;
      await rm(path, { force: true });
      throw new BackupFault(
        'backup.disk-lies',
        `what was written does not read back the same (${name}). The disk may be failing.`,
      );
    }
  }

  /** Reads back what says how the blobs belong together, and puts it in place. */
  async finish(folder: string, manifest: Manifest): Promise<void> {
    const made = join(this.making, 'backup');
    await writeFile(join(made, MANIFEST), `${JSON.stringify(manifest, null, 2)}\n`, { mode: 0o600 });
    const dumpName = `database.dump${this.sealer.suffix}`;
    await list(await this.open(dumpName, read(join(made, dumpName))));
    await requireFiles(made, manifest);
    await flush(this.order.target);
    await rename(made, folder);
    await flush(this.order.target);
    await rm(this.making, { recursive: true, force: true });
  }
}

/** @throws BackupFault backup.damaged, when one of the files beside the manifest is not what that says */
export async function requireFiles(folder: string, manifest: Manifest): Promise<void> {
  for (const [name, sha256] of Object.entries(manifest.files)) {
    const found = await hashOf(read(join(folder, name))).catch(() => null);
    if (found?.sha256 !== sha256) throw new BackupFault('backup.damaged', `${name} of it is damaged or missing.`);
  }
}

/**
 * Removes the backups that are not to be kept, and then the blobs that none of the others lists. When one of those
 * cannot be read, no blob goes.
 * @returns the names of what was removed
 */
async function tidy(target: string, kept: BackupsKept, zone: string, open: Opener, tell: Tell): Promise<string[]> {
  const stamps = await backupsIn(target);
  const moments = new Map(stamps.map((stamp) => [momentOf(stamp) ?? 0, stamp]));
  const stays = backupsKept([...moments.keys()], kept, zone);
  const goes = [...moments].filter(([at]) => !stays.has(at)).map(([, stamp]) => stamp);
  if (goes.length === 0) return [];
  tell({ words: 'Removes what is not kept any more', done: 0, total: null, bytes: 0 });
  const needed = new Set<string>();
  for (const stamp of stamps.filter((s) => !goes.includes(s)))
    for (const { name } of await listOf(join(target, stamp), open)) needed.add(name);
  const going = makingFolder(target);
  await mkdir(going, { recursive: true, mode: 0o700 });
  // By way of another name, so that one that is half removed is not taken for a backup.
  for (const stamp of goes) await rename(join(target, stamp), join(going, stamp));
  await rm(going, { recursive: true, force: true });
  await sweep(join(target, 'blobs'), needed);
  return goes;
}

/** The blobs that a backup lists. */
export async function listOf(folder: string, open: Opener): Promise<Listed[]> {
  const { files } = await readManifest(folder);
  const name = Object.keys(files).find((n) => n.startsWith('blobs.txt')) ?? 'blobs.txt';
  const pieces: Buffer[] = [];
  for await (const piece of await open(name, read(join(folder, name)))) pieces.push(piece as Buffer);
  return listedIn(Buffer.concat(pieces).toString());
}

async function sweep(blobs: string, needed: ReadonlySet<string>): Promise<void> {
  for (const entry of await readdir(blobs, { recursive: true, withFileTypes: true }))
    if (entry.isFile() && !needed.has(entry.name)) await rm(join(entry.parentPath, entry.name), { force: true });
}
