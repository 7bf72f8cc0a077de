import { countOf, formatSize } from '@quay/core';
import { join } from 'node:path';
import { isWhole } from './bytes.js';
import { restore, withScratch } from './database.js';
import { BackupFault } from './fault.js';
import { openFile } from './bring.js';
import { backupsIn, blobPath, readManifest, type Listed } from './layout.js';
import { listOf, requireFiles, withLocks, type Source, type Tell } from './make.js';
import { openerWith, type Opener } from './sealer.js';

export interface RehearseOrder {
  target: string;
  /** Bytes are read from the blob that comes after this one (SHA-256): one rehearsal goes on where the last ended. */
  after: string | null;
  /** Bytes that one rehearsal reads at most. */
  mostBytes: number;
}

export interface Rehearsed {
  stamp: string;
  /** Files of the backup, and of them those whose bytes were read this time. */
  files: number;
  read: number;
  readBytes: number;
  /** The last that was read; the next rehearsal goes on there. */
  after: string | null;
  words: string;
}

/** What is asked of a database that was brought back. @returns the rules that do not hold */
export type Judge = (databaseUrl: string) => Promise<{ broken: string[]; versions: number }>;

/**
 * Brings the newest backup back for trial: its database into one beside that of the office, which is brought to this
 * program's schema and judged; its bytes are read where they lie, against their checksums.
 * @throws BackupFault when it could not be brought back
 */
export async function rehearse(source: Source, order: RehearseOrder, judge: Judge, tell: Tell): Promise<Rehearsed> {
  const open = openerWith([source.identity]);
  return withLocks(source.databaseUrl, async () => {
    const stamp = (await backupsIn(order.target)).at(-1);
    if (stamp === undefined) throw new BackupFault('backup.none', 'there is no backup yet.');
    const folder = join(order.target, stamp);
    const manifest = await readManifest(folder);
    await requireFiles(folder, manifest);
    const listed = await listOf(folder, open);
    tell({ words: 'Brings the database back beside that of the office', done: 0, total: null, bytes: 0 });
    const { broken, versions } = await withScratch(source.databaseUrl, async (scratchUrl) => {
      await restore(scratchUrl, await openFile(folder, manifest, 'database.dump', open));
      return judge(scratchUrl);
    });
    if (broken.length > 0)
      throw new BackupFault('backup.does-not-hold', `in its database it does not hold that ${broken.join('; ')}.`);
    const lacking = new Set(manifest.damaged);
    const done = await readSome(
      order,
      listed.filter((b) => !lacking.has(b.sha256)),
      open,
      tell,
    );
    const part = done.read === listed.length - lacking.size ? 'all' : `${done.read} of`;
    return {
      stamp,
      files: listed.length,
      ...done,
      words: `The database came back with ${countOf(versions, 'version')} of files, and everything in it holds. Read against their checksums: ${part} ${countOf(listed.length, 'file')} (${formatSize(done.readBytes)}).`,
    };
  });
}

async function readSome(
  { target, after, mostBytes }: RehearseOrder,
  listed: Listed[],
  open: Opener,
  tell: Tell,
): Promise<Pick<Rehearsed, 'read' | 'readBytes' | 'after'>> {
  const from =
    after === null
      ? 0
      : Math.max(
          0,
          listed.findIndex((b) => b.sha256 > after),
        );
  const inTurn = [...listed.slice(from), ...listed.slice(0, from)];
  let [read, readBytes, last] = [0, 0, after];
  for (const { sha256, sizeBytes, name } of inTurn) {
    if (read > 0 && readBytes + sizeBytes > mostBytes) break;
    if (!(await isWhole(blobPath(target, name), name, sha256, open)))
      throw new BackupFault('backup.damaged', `the bytes of a file are damaged or missing there (${sha256}).`);
    [read, readBytes, last] = [read + 1, readBytes + sizeBytes, sha256];
    tell({ words: 'Reads files against their checksums', done: read, total: inTurn.length, bytes: readBytes });
  }
  return { read, readBytes, after: last };
}
