import { mendName, PATH_MOST_LEVELS } from '@quay/core';
import { constants } from 'node:fs';
import { open, readdir, readlink, type FileHandle } from 'node:fs/promises';
import { join, sep } from 'node:path';

/** A regular file below an adopted folder, opened. Whoever takes it closes it. */
export interface FoundFile {
  /** Where it lay on the server's disk when it was found, for telling. */
  path: string;
  /** Folders below the one that is adopted into. */
  below: string[];
  name: string;
  sizeBytes: number;
  file: FileHandle;
}

export type Note = (path: string, why: string) => void;

const FOLDER = constants.O_RDONLY | constants.O_DIRECTORY | constants.O_NOFOLLOW;
// Without waiting for whoever writes to a pipe.
const FILE = constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK;

/**
 * A name in an opened folder (openat(2), by proc(5)): whatever becomes of the folder's path meanwhile, it is this one.
 */
const within = (folder: FileHandle, name: string): string => `/proc/self/fd/${folder.fd}/${name}`;

/**
 * Opens a folder that lies below one of the roots, by what was really opened: a part of the path that was swapped for a
 * link between looking and opening leads nowhere.
 * @returns null when there is none, or it lies elsewhere
 */
export async function openBelow(path: string, roots: readonly string[]): Promise<FileHandle | null> {
  const folder = await open(path, FOLDER).catch(() => null);
  if (!folder) return null;
  const real = await readlink(`/proc/self/fd/${folder.fd}`);
  if (roots.some((root) => real === root || real.startsWith(root + sep))) return folder;
  await folder.close();
  return null;
}

/** The entries of an opened folder, in the order of names. */
export async function entriesOf(folder: FileHandle) {
  const entries = await readdir(within(folder, ''), { withFileTypes: true });
  return entries.sort((a, b) => (a.name < b.name ? -1 : 1));
}

/**
 * Every regular file below an opened folder. Each level is opened from the one above, and no link is followed at any;
 * what is something else is noted.
 */
export async function* walk(folder: FileHandle, path: string, below: string[], note: Note): AsyncGenerator<FoundFile> {
  const entries = await entriesOf(folder).catch(() => null);
  if (!entries) return void note(path, 'cannot be read');
  for (const entry of entries) {
    const at = join(path, entry.name);
    const name = mendName(entry.name);
    if (name !== entry.name.normalize('NFC')) note(at, `is called "${name}" here, so that every desktop can hold it`);
    if (entry.isSymbolicLink()) note(at, 'is a symbolic link, which is not followed');
    else if (entry.isDirectory()) {
      if (below.length >= PATH_MOST_LEVELS) {
        note(at, `lies deeper than ${PATH_MOST_LEVELS} levels`);
        continue;
      }
      const inner = await opened(within(folder, entry.name), FOLDER, at, note);
      if (!inner) continue;
      try {
        yield* walk(inner, at, [...below, name], note);
      } finally {
        await inner.close();
      }
    } else if (entry.isFile()) {
      const file = await opened(within(folder, entry.name), FILE, at, note);
      if (!file) continue;
      const info = await file.stat();
      if (info.isFile()) yield { path: at, below, name, sizeBytes: info.size, file };
      else {
        await file.close();
        note(at, 'is not a regular file');
      }
    } else note(at, 'is a special file');
  }
}

/** Opens, or notes why not. */
async function opened(path: string, flags: number, shown: string, note: Note): Promise<FileHandle | null> {
  return open(path, flags).catch((error: NodeJS.ErrnoException) => {
    const why = { ELOOP: 'is a symbolic link', ENOTDIR: 'is no folder any more', ENOENT: 'is gone' }[error.code ?? ''];
    note(shown, why ?? 'cannot be read');
    return null;
  });
}
