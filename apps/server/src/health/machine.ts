import type { DiskFacts, HealthFacts, SecretFileFacts } from '@quay/core';
import { execFile } from 'node:child_process';
import { access, constants, readdir, readFile, stat, statfs } from 'node:fs/promises';
import { connect } from 'node:net';
import { join } from 'node:path';
import { promisify } from 'node:util';

const run = promisify(execFile);

/** What lies on a file system; null when that does not answer. */
export async function diskOf(what: string, folder: string): Promise<DiskFacts | null> {
  try {
    const { bavail, blocks, bsize, ffree, files } = await statfs(folder);
    const counted = files > 0;
    return {
      ...{ what, folder, freeBytes: bavail * bsize, sizeBytes: blocks * bsize },
      freeInodes: counted ? ffree : null,
      inodes: counted ? files : null,
    };
  } catch {
    return null;
  }
}

export async function secretFile(path: string): Promise<SecretFileFacts> {
  try {
    const { mode, uid } = await stat(path);
    return { path, mode: mode & 0o777, own: uid === process.getuid?.() };
  } catch {
    return { path, mode: null, own: true };
  }
}

/** proc(5): what this process has open, and may have. */
export async function openFiles(): Promise<HealthFacts['files']> {
  try {
    const [limits, open] = await Promise.all([readFile('/proc/self/limits', 'utf8'), readdir('/proc/self/fd')]);
    const most = /^Max open files\s+(\d+)/m.exec(limits)?.[1];
    return most === undefined ? null : { open: open.length, most: Number(most) };
  } catch {
    return null;
  }
}

/** proc(5): MemAvailable. */
export async function memory(): Promise<HealthFacts['memory']> {
  const text = await readFile('/proc/meminfo', 'utf8').catch(() => '');
  const read = (name: string) => new RegExp(`^${name}:\\s+(\\d+) kB`, 'm').exec(text)?.[1];
  const [available, total] = [read('MemAvailable'), read('MemTotal')];
  if (available === undefined || total === undefined) return null;
  return { availableBytes: Number(available) * 1024, totalBytes: Number(total) * 1024 };
}

/** Whether the system keeps its clock right: as timedatectl(1) says; null where there is none. */
export async function clockKept(): Promise<boolean | null> {
  try {
    const { stdout } = await run('timedatectl', ['show', '--property=NTPSynchronized', '--value'], { timeout: 3000 });
    return stdout.trim() === 'yes';
  } catch {
    return null;
  }
}

/** Programs by the Debian packages that bring them. */
const PROGRAMS = { pg_dump: 'postgresql-client', bwrap: 'bubblewrap', pdftoppm: 'poppler-utils' };

/** The packages of programs that are called and cannot be found. */
export async function missingPrograms(): Promise<string[]> {
  const folders = (process.env['PATH'] ?? '').split(':').filter(Boolean);
  const missing: string[] = [];
  for (const [program, debian] of Object.entries(PROGRAMS)) {
    const found = await Promise.any(folders.map((folder) => access(join(folder, program), constants.X_OK))).then(
      () => true,
      () => false,
    );
    if (!found) missing.push(debian);
  }
  return missing;
}

/** Whether anything takes connections there. */
export function answersOn(host: string, port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect({ host: host === '0.0.0.0' ? '127.0.0.1' : host, port, timeout: 2000 });
    const end = (answers: boolean) => {
      socket.destroy();
      resolve(answers);
    };
    socket.once('connect', () => end(true));
    socket.once('error', () => end(false));
    socket.once('timeout', () => end(false));
  });
}
