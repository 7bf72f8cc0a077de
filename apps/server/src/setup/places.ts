import { placeVerdict, strangerIn, type PlaceFacts } from '@quay/core';
import type { SetupCandidate } from '@quay/contract';
import { randomBytes, randomUUID } from 'node:crypto';
import { open, mkdir, readdir, readFile, rmdir, stat, statfs, unlink } from 'node:fs/promises';
import { dirname, join, normalize } from 'node:path';
import { makeFolder } from '../platform/make-folder.js';

/** Enough to be past what a disk's own memory takes, and quickly over on a slow one. */
const TRIAL_BYTES = 64 * 1024 * 1024;
const PIECE_BYTES = 4 * 1024 * 1024;
const TRIAL_MS = 2000;
/** A machine that does not answer holds whoever asks it for anything. */
const PATIENCE_MS = 3000;
const REAL = /^(ext[234]|xfs|btrfs|zfs|f2fs|jfs|reiserfs|bcachefs|nfs\d?|cifs|smb3|fuse\.sshfs|overlay)$/;
/** Where a system keeps its own. */
const OF_THE_SYSTEM = /^\/(boot|proc|sys|dev|run|snap|var\/lib\/(docker|containers))(\/|$)/;

interface Mount {
  folder: string;
  fileSystem: string;
}

/** What is mounted, as proc(5) tells: blanks are written as \\040. */
async function mounts(): Promise<Mount[]> {
  const text = await readFile('/proc/self/mounts', 'utf8').catch(() => '');
  return text
    .split('\n')
    .map((line) => line.split(' '))
    .filter((parts) => parts.length >= 3)
    .map(([, folder = '', fileSystem = '']) => ({
      folder: folder.replace(/\\([0-7]{3})/g, (_, octal: string) => String.fromCharCode(parseInt(octal, 8))),
      fileSystem,
    }));
}

/** The mount that a folder lies on: the last one of the longest that is above it. */
function mountOf(folder: string, all: Mount[]): Mount {
  const above = all.filter((m) => folder === m.folder || folder.startsWith(m.folder === '/' ? '/' : `${m.folder}/`));
  return above.reduce((best, m) => (m.folder.length >= best.folder.length ? m : best), {
    folder: '/',
    fileSystem: 'unknown',
  });
}

/** Folders that could be chosen: the proposed one first, then one on every other disk. */
export async function candidates(proposed: string): Promise<SetupCandidate[]> {
  const all = await mounts();
  const own = mountOf(proposed, all).folder;
  const others = all
    .filter((m) => REAL.test(m.fileSystem) && m.folder !== own && !OF_THE_SYSTEM.test(m.folder))
    .map((m) => (m.folder === '/' ? '/srv/quay' : join(m.folder, 'quay')));
  const found: SetupCandidate[] = [];
  // One after the other: measured together they would measure each other.
  for (const folder of [...new Set([proposed, ...others])].slice(0, 8)) found.push(await measurePlace(folder));
  return found;
}

/** What a folder is like that bytes could lie in. Nothing is left there. */
export async function measurePlace(path: string): Promise<SetupCandidate> {
  const folder = normalize(path);
  const all = await mounts();
  const { fileSystem, folder: mounted } = mountOf(folder, all);
  const facts = await inTime(factsOf(folder, fileSystem, mounted === mountOf('/', all).folder), {
    ...NOTHING,
    fileSystem,
    refused: 'it does not answer',
  });
  return { folder, freeBytes: facts.freeBytes, ...placeVerdict(facts) };
}

const NOTHING: Omit<PlaceFacts, 'fileSystem'> = {
  freeBytes: 0,
  bytesPerSecond: null,
  systemDisk: false,
  refused: null,
};

export async function inTime<T>(work: Promise<T>, otherwise: T): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<T>((resolve) => (timer = setTimeout(() => resolve(otherwise), PATIENCE_MS + TRIAL_MS)));
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}

async function factsOf(folder: string, fileSystem: string, systemDisk: boolean): Promise<PlaceFacts> {
  const base = { ...NOTHING, fileSystem, systemDisk };
  try {
    const there = await nearest(folder);
    const stranger = there === folder ? strangerIn(await readdir(there)) : null;
    if (stranger !== null)
      return { ...base, refused: `it holds other things (${stranger}). Choose a folder of its own` };
    const { bavail, bsize } = await statfs(there);
    const freeBytes = bavail * bsize;
    // Where it must not be anyway nothing is written.
    if (placeVerdict({ ...base, freeBytes }).mark === 'fail') return { ...base, freeBytes };
    return { ...base, freeBytes, bytesPerSecond: await flushedBytesPerSecond(there) };
  } catch (error) {
    return { ...base, refused: refusalWords(error as NodeJS.ErrnoException) };
  }
}

/** The folder itself, or the nearest one above it that is there. @throws ENOTDIR when that is a file */
export async function nearest(folder: string): Promise<string> {
  const info = await stat(folder).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return null;
    throw error;
  });
  if (info === null) return nearest(dirname(folder));
  if (!info.isDirectory()) throw Object.assign(new Error('it is a file'), { code: 'ENOTDIR' });
  return folder;
}

async function flushedBytesPerSecond(folder: string): Promise<number> {
  const path = join(folder, `.quay-${randomUUID()}`);
  const file = await open(path, 'wx', 0o600);
  try {
    const piece = randomBytes(PIECE_BYTES);
    const began = performance.now();
    let written = 0;
    while (written < TRIAL_BYTES && performance.now() - began < TRIAL_MS) {
      await file.write(piece);
      await file.datasync();
      written += piece.length;
    }
    return Math.round(written / ((performance.now() - began) / 1000));
  } finally {
    await file.close();
    await unlink(path);
  }
}

/** Makes the folder, readable by its owner alone, and sees that bytes stay in it. @throws what the system says */
export async function preparePlace(folder: string): Promise<void> {
  await makeFolder(folder);
  const stranger = strangerIn(await readdir(folder));
  if (stranger !== null) throw new Error(`it holds other things (${stranger})`);
  const trial = join(folder, `.quay-${randomUUID()}`);
  await mkdir(trial);
  await rmdir(trial);
}

export function refusalWords({ code, message }: NodeJS.ErrnoException): string {
  const words: Record<string, string> = {
    EACCES: 'permission denied',
    EPERM: 'not allowed',
    EROFS: 'it can only be read',
    ENOSPC: 'it is full',
    EDQUOT: 'its quota is used up',
    ENOTDIR: 'a part of the path is a file',
    ENAMETOOLONG: 'the path is too long',
    EIO: 'the disk has an error',
  };
  return words[code ?? ''] ?? message;
}
