import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import pg from 'pg';
import { DataSource } from 'typeorm';
import { checkRows } from '../check/invariants.js';
import { environmentOf } from '../backups/copying/database.js';
import { dataSourceOptions, migrate } from '../platform/database/database.js';

const run = promisify(execFile);
const nameOf = (url: string): string => decodeURIComponent(new URL(url).pathname.slice(1));

/** The same server, another database. */
export function otherDatabase(url: string, name: string): string {
  const other = new URL(url);
  other.pathname = `/${encodeURIComponent(name)}`;
  return other.toString();
}

/** Asks beside the database, because nobody may be in one that is copied or dropped. */
async function beside(url: string, work: (client: pg.Client) => Promise<void>): Promise<void> {
  const client = new pg.Client({ connectionString: otherDatabase(url, 'postgres') });
  await client.connect();
  try {
    await work(client);
  } finally {
    await client.end();
  }
}

/** Makes a copy of a database that nobody serves (CREATE DATABASE … TEMPLATE); what was left of an earlier try goes. */
export async function copyDatabase(url: string, to: string): Promise<void> {
  if (nameOf(url) === to) throw new Error(`the copy cannot have the name of the database itself (${to})`);
  await beside(url, async (client) => {
    await client.query('SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1', [nameOf(url)]);
    await client.query(`DROP DATABASE IF EXISTS ${pg.escapeIdentifier(to)} WITH (FORCE)`);
    await client.query(`CREATE DATABASE ${pg.escapeIdentifier(to)} TEMPLATE ${pg.escapeIdentifier(nameOf(url))}`);
  });
}

/** An empty database beside that of the URL. */
export async function makeDatabase(url: string, name: string): Promise<void> {
  await beside(url, async (client) => {
    await client.query(
      `CREATE DATABASE ${pg.escapeIdentifier(name)} TEMPLATE template0 ENCODING 'UTF8' LOCALE 'C.UTF-8'`,
    );
  });
}

/** Whether there is an office in the database. */
export async function isBegun(url: string): Promise<boolean> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    const { rows } = await client.query<{ there: boolean }>(`SELECT to_regclass('office') IS NOT NULL AS there`);
    return Boolean(rows[0]?.there) && (await client.query('SELECT 1 FROM office')).rows.length > 0;
  } finally {
    await client.end();
  }
}

export async function dropDatabase(url: string): Promise<void> {
  await beside(url, async (client) => {
    await client.query(`DROP DATABASE IF EXISTS ${pg.escapeIdentifier(nameOf(url))} WITH (FORCE)`);
  });
}

/** Writes a database out, as pg_dump --format=custom does. */
export async function dumpDatabase(url: string, file: string): Promise<void> {
  await run('pg_dump', ['--format=custom', '--no-owner', `--file=${file}`], { env: environmentOf(url) });
}

/** Brings a copy to this program's schema, and sees that everything holds in it. @throws Error saying what does not */
export async function prepareDatabase(url: string): Promise<void> {
  const db = await new DataSource(dataSourceOptions(url, [])).initialize();
  try {
    await migrate(db);
    const broken = await checkRows(db);
    if (broken.length > 0)
      throw new Error(`it does not hold that ${[...new Set(broken.map((b) => b.rule))].join('; ')}`);
  } finally {
    await db.destroy();
  }
}

/** Drops the databases of releases that are not there any more: all that are named like those, but for some. */
export async function tidyDatabases(url: string, keep: readonly string[]): Promise<void> {
  const base = nameOf(url).replace(/_\d{14}$/, '');
  await beside(url, async (client) => {
    const { rows } = await client.query<{ name: string }>(
      `SELECT datname AS name FROM pg_database WHERE starts_with(datname, $1) AND pg_get_userbyid(datdba) = current_user`,
      [`${base}_`],
    );
    const gone = rows.filter(({ name }) => /^_\d{14}$/.test(name.slice(base.length)) && !keep.includes(name));
    for (const { name } of gone)
      await client.query(`DROP DATABASE IF EXISTS ${pg.escapeIdentifier(name)} WITH (FORCE)`);
  });
}
