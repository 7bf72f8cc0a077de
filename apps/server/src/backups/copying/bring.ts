import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import pg from 'pg';
import { flush, read, write } from './bytes.js';
import { restore } from './database.js';
import { BackupFault } from './fault.js';
import { blobPath, readManifest, shelfOf, type Manifest } from './layout.js';
import { listOf, requireFiles, type Tell } from './make.js';
import { PLAIN, type Opener } from './sealer.js';

export interface BringOrder {
  /** The folder of backups, and which of them. */
  source: string;
  stamp: string;
  /** An empty database, and where nothing lies yet. */
  databaseUrl: string;
  blobRoot: string;
  keyFile: string;
  identityFile: string;
}

export interface Brought {
  files: number;
  bytes: number;
  /** What is missing or damaged in the backup, as SHA-256. */
  missing: string[];
}

/**
 * Brings a backup into an empty place. Every blob is compared with its SHA-256 on the way.
 * @throws BackupFault before anything is written, when the backup itself is damaged or cannot be opened
 */
export async function bringBack(order: BringOrder, open: Opener, tell: Tell): Promise<Brought> {
  const folder = join(order.source, order.stamp);
  const manifest = await readManifest(folder);
  await requireFiles(folder, manifest);
  const listed = await listOf(folder, open);
  tell({ words: 'Brings back the database', done: 0, total: null, bytes: 0 });
  await restore(order.databaseUrl, await openFile(folder, manifest, 'database.dump', open));
  await bytesLieHere(order.databaseUrl);
  const making = join(order.blobRoot, 'tmp', 'restored');
  await mkdir(join(order.blobRoot, 'tmp'), { recursive: true, mode: 0o700 });
  const missing: string[] = [];
  let bytes = 0;
  for (const [index, { sha256, sizeBytes, name }] of listed.entries()) {
    tell({ words: 'Brings back files', done: index + 1, total: listed.length, bytes });
    const path = shelfOf(order.blobRoot, sha256);
    const opened = await open(name, read(blobPath(order.source, name))).catch(() => null);
    const written = opened && (await write(opened, { path, making }, PLAIN, sha256).catch(tolerateReading));
    if (written) bytes += sizeBytes;
    else missing.push(sha256);
  }
  await secret(order.keyFile, await openFile(folder, manifest, 'sealing-key', open));
  if (manifest.recipients.length > 0)
    await secret(order.identityFile, await openFile(folder, manifest, 'identity', open));
  await flush(order.blobRoot);
  return { files: listed.length - missing.length, bytes, missing };
}

/** A file that cannot be read is missing; a disk that cannot be written to is not. */
function tolerateReading(error: NodeJS.ErrnoException): null {
  if (error.code === 'ENOSPC' || error.code === 'EDQUOT' || error.code === 'EROFS') throw error;
  return null;
}

/** One of the files beside the manifest, opened. */
export async function openFile(
  folder: string,
  manifest: Manifest,
  name: string,
  open: Opener,
): Promise<Awaited<ReturnType<Opener>>> {
  const stored = manifest.recipients.length > 0 ? `${name}.age` : name;
  return open(stored, read(join(folder, stored)));
}

async function secret(path: string, bytes: Awaited<ReturnType<Opener>>): Promise<void> {
  const pieces: Buffer[] = [];
  for await (const piece of bytes) pieces.push(piece as Buffer);
  await writeFile(path, Buffer.concat(pieces), { mode: 0o600 });
}

/** What was brought back has its bytes beside it, wherever they lay before. */
async function bytesLieHere(databaseUrl: string): Promise<void> {
  const client = new pg.Client({ connectionString: databaseUrl });
  await client.connect();
  try {
    await client.query('UPDATE office SET blob_root = NULL');
  } finally {
    await client.end();
  }
}

/** The newest backup of a folder, or the one that is asked for. @throws BackupFault backup.none */
export function chosenFrom(stamps: readonly string[], asked: string | null): string {
  const stamp = asked ?? stamps.at(-1);
  if (stamp === undefined || !stamps.includes(stamp))
    throw new BackupFault('backup.none', `there is no such backup. It holds: ${stamps.join(', ') || 'none'}.`);
  return stamp;
}
