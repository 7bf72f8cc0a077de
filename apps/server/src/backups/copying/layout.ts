import { existsSync } from 'node:fs';
import { readdir, readFile, rename, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { makeFolder } from '../../platform/make-folder.js';
import { BackupFault } from './fault.js';

/**
 * A folder of backups:
 *
 *     lockfast-quay-backups.json     whose they are
 *     blobs/12/34/1234…              bytes of files, each once for all backups
 *     20261127T223000/               one backup: manifest.json, database.dump, blobs.txt, sealing-key
 *     making/                        what is under way
 *
 * With encryption, everything but the manifest ends in `.age`, and blobs are not named by what they hold.
 * docs/backups.md describes it for those who have nothing but the folder.
 */
const MARKER = 'lockfast-quay-backups.json';
export const MANIFEST = 'manifest.json';
const STAMP = /^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)$/;

export interface Manifest {
  /** ISO 8601. */
  at: string;
  /** The newest migration of the database. */
  schema: string;
  /** Whom it is encrypted to besides the server; none: it is not. */
  recipients: string[];
  blobs: number;
  /** Of all blobs, before encryption. */
  bytes: number;
  /** What could not be copied, as SHA-256. */
  damaged: string[];
  /** Names of the files beside the manifest, with the SHA-256 of each as it lies there. */
  files: Record<string, string>;
}

/** A blob of a backup: its SHA-256, its size, and how it is called in the folder. */
export interface Listed {
  sha256: string;
  sizeBytes: number;
  name: string;
}

export const stampOf = (at: Date): string => at.toISOString().replace(/[-:]/g, '').slice(0, 15);

/** @returns the moment of a backup by the name of its folder; null: it is not one */
export function momentOf(stamp: string): number | null {
  const parts = STAMP.exec(stamp)?.slice(1).map(Number);
  if (!parts) return null;
  const [year = 0, month = 1, day = 1, hour = 0, minute = 0, second = 0] = parts;
  return Date.UTC(year, month - 1, day, hour, minute, second);
}

/** Where a folder of blobs keeps one. */
export const shelfOf = (blobs: string, name: string): string => join(blobs, name.slice(0, 2), name.slice(2, 4), name);
export const blobPath = (target: string, name: string): string => shelfOf(join(target, 'blobs'), name);
export const makingFolder = (target: string): string => join(target, 'making');

/** The backups in a folder by their names, oldest first. @throws what the system says when it cannot be read */
export async function backupsIn(target: string): Promise<string[]> {
  return (await readdir(target)).filter((name) => STAMP.test(name)).sort();
}

/** @throws BackupFault backup.damaged, when it cannot be read */
export async function readManifest(folder: string): Promise<Manifest> {
  try {
    const read = JSON.parse(await readFile(join(folder, MANIFEST), 'utf8')) as Partial<Manifest> & FirstManifest;
    return {
      at: read.at ?? '',
      schema: read.schema ?? '',
      recipients: read.recipients ?? [],
      blobs: read.blobs ?? 0,
      bytes: read.bytes ?? 0,
      damaged: read.damaged ?? [],
      files: read.files ?? { 'database.dump': read.dumpSha256 ?? '', 'blobs.txt': read.listSha256 ?? '' },
    };
  } catch (error) {
    throw new BackupFault('backup.damaged', `the manifest of ${folder} cannot be read (${(error as Error).message}).`);
  }
}

/** What the first version wrote. */
interface FirstManifest {
  dumpSha256?: string;
  listSha256?: string;
}

/** "SHA-256 size name" in lines; without a name it is the SHA-256. */
export const listText = (blobs: readonly Listed[]): string =>
  blobs.map((b) => `${b.sha256} ${b.sizeBytes} ${b.name}\n`).join('');

export function listedIn(text: string): Listed[] {
  return text
    .split('\n')
    .filter(Boolean)
    .map((line) => {
      const [sha256 = '', size = '', name = sha256] = line.split(' ');
      return { sha256, sizeBytes: Number(size), name };
    });
}

/**
 * Sees whose backups a folder holds.
 * @param office the office's own id
 * @throws BackupFault backup.not-mounted, when there is nothing where there was a backup of ours; backup.of-another
 */
export async function requireOwn(target: string, office: string): Promise<void> {
  const whose = await officeOf(target);
  if (whose === null)
    throw new BackupFault(
      'backup.not-mounted',
      'the folder is not there, or not the one that was set up. Is the disk plugged in, the share mounted?',
    );
  if (whose !== office) throw new BackupFault('backup.of-another', "another office's backups lie there.");
}

/** Makes a folder one for backups of this office. @throws BackupFault backup.of-another, backup.not-empty */
export async function claimFolder(target: string, office: string): Promise<void> {
  await makeFolder(target);
  const whose = await officeOf(target);
  if (whose === office) return;
  if (whose !== null) throw new BackupFault('backup.of-another', "another office's backups lie there.");
  // Backups of the first version have no marker.
  const strangers = (await readdir(target)).filter(
    (name) => !STAMP.test(name) && !['blobs', 'making', 'lost+found'].includes(name),
  );
  if (strangers.length > 0)
    throw new BackupFault('backup.not-empty', `it holds other things (${strangers[0]}). Choose a folder of its own.`);
  const words = 'Backups of a Lockfast Quay. docs/backups.md of the program says how to open them without it.';
  const path = join(target, MARKER);
  await writeFile(`${path}.making`, `${JSON.stringify({ format: 1, office, words }, null, 2)}\n`, { mode: 0o600 });
  await rename(`${path}.making`, path);
}

async function officeOf(target: string): Promise<string | null> {
  const path = join(target, MARKER);
  if (!existsSync(path)) return null;
  try {
    return String((JSON.parse(await readFile(path, 'utf8')) as { office?: unknown }).office);
  } catch {
    throw new BackupFault('backup.of-another', `${path} cannot be read: it does not say whose backups these are.`);
  }
}
