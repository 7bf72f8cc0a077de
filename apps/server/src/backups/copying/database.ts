import { spawn, type ChildProcess } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { once } from 'node:events';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import pg from 'pg';
import { BackupFault } from './fault.js';

/** How PostgreSQL's own programs are told where the database is: never on the command line, which everybody can read. */
export function environmentOf(url: string): NodeJS.ProcessEnv {
  const { hostname, port, username, password, pathname, searchParams } = new URL(url);
  return {
    ...process.env,
    PGHOST: searchParams.get('host') ?? decodeURIComponent(hostname),
    PGPORT: port || '5432',
    PGUSER: decodeURIComponent(username),
    PGPASSWORD: decodeURIComponent(password),
    PGDATABASE: decodeURIComponent(pathname.slice(1)),
  };
}

/** What a program said last, and how it ended. */
function endOf(child: ChildProcess, words: string): Promise<void> {
  let said = '';
  child.stderr?.on('data', (piece: Buffer) => (said = (said + piece.toString()).slice(-2000)));
  return new Promise((resolve, reject) => {
    child.once('error', (error) => reject(new BackupFault('backup.no-program', `${words}: ${error.message}.`)));
    child.once('close', (code) => {
      if (code === 0) resolve();
      else reject(new BackupFault('backup.database', `${words}: ${said.trim().split('\n').at(-1) ?? code}.`));
    });
  });
}

/** What is made again when it is wanted: its bytes are not copied either. */
const MADE_AGAIN = ['--exclude-table-data=marked_copy'];

/** A snapshot of the database as `pg_dump --format=custom` writes it; `ended` fails when that does. */
export function dump(url: string, snapshot: string): { bytes: Readable; ended: Promise<void> } {
  const child = spawn('pg_dump', ['--format=custom', '--no-owner', ...MADE_AGAIN, `--snapshot=${snapshot}`], {
    env: environmentOf(url),
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  return { bytes: child.stdout, ended: endOf(child, 'the database could not be copied') };
}

/** Reads the contents of a dump (`pg_restore --list`). @throws BackupFault backup.database when it is none */
export async function list(bytes: Readable): Promise<void> {
  const child = spawn('pg_restore', ['--list'], { stdio: ['pipe', 'ignore', 'pipe'] });
  await feed(bytes, child, 'the copy of the database cannot be read back');
}

/** Brings a dump into an empty database, all or nothing. */
export async function restore(url: string, bytes: Readable): Promise<void> {
  const child = spawn(
    'pg_restore',
    ['--no-owner', '--exit-on-error', '--single-transaction', `--dbname=${new URL(url).pathname.slice(1)}`],
    { env: environmentOf(url), stdio: ['pipe', 'ignore', 'pipe'] },
  );
  await feed(bytes, child, 'the database could not be brought back');
}

/** Programs stop reading when they have what they need; what comes after is read all the same, for its checksum. */
async function feed(bytes: Readable, child: ChildProcess, words: string): Promise<void> {
  const ended = endOf(child, words);
  const input = child.stdin as NonNullable<typeof child.stdin>;
  let isOpen = true;
  input.on('error', () => (isOpen = false));
  input.on('close', () => (isOpen = false));
  const fed = pipeline(bytes, async (pieces: AsyncIterable<Buffer>) => {
    for await (const piece of pieces)
      if (isOpen && !input.write(piece))
        await Promise.race([once(input, 'drain'), once(input, 'close')]).catch(() => null);
    input.end();
  }).catch((error: unknown) => {
    child.kill();
    throw error;
  });
  // What went wrong with the bytes says more than what a program says of them.
  const [read, done] = await Promise.allSettled([fed, ended]);
  if (read.status === 'rejected') throw read.reason;
  if (done.status === 'rejected') throw done.reason;
}

/** What databases for trials of this one are called: another office may have its own beside it. */
export const scratchPrefix = (url: string): string =>
  `quay_rehearsal_${createHash('sha256').update(new URL(url).pathname).digest('hex').slice(0, 8)}_`;

/**
 * Gives work a database of its own beside that of the office, and takes it away again. Those that were left by a
 * process that died go, too: whoever calls this holds the lock of backups.
 * @throws BackupFault backup.no-scratch, when databases cannot be made there
 */
export async function withScratch<T>(url: string, work: (scratchUrl: string) => Promise<T>): Promise<T> {
  const prefix = scratchPrefix(url);
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    const left = await client.query<{ datname: string }>(
      'SELECT datname FROM pg_database WHERE starts_with(datname, $1)',
      [prefix],
    );
    for (const { datname } of left.rows) await drop(client, datname);
    const name = prefix + randomBytes(6).toString('hex');
    await client.query(`CREATE DATABASE ${pg.escapeIdentifier(name)} TEMPLATE template0`).catch((error: Error) => {
      throw new BackupFault(
        'backup.no-scratch',
        `no database could be made to try it in (${error.message}). The database's user needs CREATEDB.`,
      );
    });
    try {
      const scratch = new URL(url);
      scratch.pathname = `/${name}`;
      return await work(scratch.toString());
    } finally {
      await drop(client, name);
    }
  } finally {
    await client.end();
  }
}

async function drop(client: pg.Client, name: string): Promise<void> {
  await client.query(`DROP DATABASE IF EXISTS ${pg.escapeIdentifier(name)} WITH (FORCE)`);
}
