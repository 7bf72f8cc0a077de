import 'reflect-metadata';
import type { NestExpressApplication } from '@nestjs/platform-express';
import { Test } from '@nestjs/testing';
import { nameKey } from '@quay/core';
import type { ShareSheet, UploadAnswer } from '@quay/contract';
import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import pg from 'pg';
import { DataSource } from 'typeorm';
import { inject } from 'vitest';
import { AppModule, ENTITIES } from '../app.module.js';
import { checkInvariants } from '../check/invariants.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { PreviewsService } from '../previews/previews.service.js';
import { Clock } from '../platform/clock.js';
import { NO_REACH, type Config } from '../platform/config.js';
import { dataSourceOptions, migrate } from '../platform/database/database.js';
import { SCHEMAS } from '../platform/database/migrations.js';
import { PACE } from '../platform/pace.js';
import { hashPassword } from '../platform/passwords.js';
import { configureApp } from '../web.js';
import { grantOn } from './grants.js';

declare module 'vitest' {
  interface ProvidedContext {
    databaseUrl: string;
  }
}

/** A clock that stands where it is put, and moves when told to. */
export class TestClock extends Clock {
  constructor(public at: number) {
    super();
  }
  override now(): number {
    return this.at;
  }
  advance(ms: number): void {
    this.at += ms;
  }
}

export const START = Date.parse('2026-11-24T10:00:00Z');
export const PASSWORDS = {
  iris: 'weir-lantern-copper-tide',
  tomas: 'gravel-heron-silent-oar',
  rosa: 'kestrel-pebble-thistle-cart',
} as const;
export type Name = keyof typeof PASSWORDS;

export interface Answer<T> {
  status: number;
  body: T & { code?: string; detail?: string; errors?: { field: string; code: string }[]; [more: string]: unknown };
  headers: Headers;
}

/** Speaks real HTTP to the server, as one browser would: with the cookies it was given. */
export class Client {
  private readonly cookies = new Map<string, { value: string; path: string }>();
  constructor(readonly origin: string) {}

  async ask<T = unknown>(
    method: string,
    path: string,
    body?: unknown,
    headers: Record<string, string> = {},
  ): Promise<Answer<T>> {
    const response = await this.fetch(path, {
      method,
      headers: { ...(body !== undefined && { 'content-type': 'application/json' }), ...headers },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
    const text = await response.text();
    return {
      status: response.status,
      body: (text && /json/.test(response.headers.get('content-type') ?? '')
        ? JSON.parse(text)
        : {}) as Answer<T>['body'],
      headers: response.headers,
    };
  }

  async fetch(path: string, init: RequestInit = {}): Promise<Response> {
    const response = await fetch(this.origin + path, {
      redirect: 'manual',
      ...init,
      headers: { ...(init.headers as Record<string, string>), cookie: this.cookieHeader(path) },
    });
    for (const line of response.headers.getSetCookie()) {
      const [, name, value] = /^([^=]+)=([^;]*)/.exec(line) as unknown as [string, string, string];
      const at = /path=([^;]+)/i.exec(line)?.[1] ?? '/';
      this.cookies.set(`${at} ${name}`, { value: `${name}=${value}`, path: at });
    }
    return response;
  }

  /** The same browser, with all its cookies, sent to another server process. */
  at(origin: string): Client {
    const there = new Client(origin);
    for (const [key, cookie] of this.cookies) there.cookies.set(key, cookie);
    return there;
  }

  cookieHeader(path: string): string {
    return [...this.cookies.values()]
      .filter((c) => path.startsWith(c.path))
      .map((c) => c.value)
      .join('; ');
  }

  async upload(folderId: string, name: string, bytes: Buffer, query = ''): Promise<Answer<UploadAnswer>> {
    const response = await this.fetch(`/api/folders/${folderId}/files?name=${encodeURIComponent(name)}${query}`, {
      method: 'PUT',
      body: new Uint8Array(bytes),
      headers: { 'content-type': 'application/octet-stream' },
    });
    return {
      status: response.status,
      body: (await response.json()) as Answer<UploadAnswer>['body'],
      headers: response.headers,
    };
  }
}

export interface TestOffice {
  app: NestExpressApplication;
  origin: string;
  clock: TestClock;
  db: DataSource;
  config: Config;
  /** Root folders by store: `projects` (staff edit), `partners` (tomas views), and each person's home. */
  roots: Record<'projects' | 'partners' | Name, string>;
  client: () => Client;
  signedIn: (name: Name) => Promise<Client>;
  publish: (
    client: Client,
    nodeIds: string[],
    part?: Record<string, unknown>,
  ) => Promise<ShareSheet & { token: string }>;
  /**
   * Ends the server, after seeing that nothing is left of what was done; `broken` says what a test broke on purpose.
   * `bytes`: every blob is read and compared with its name, too.
   */
  close: (how?: { withFiles?: boolean; broken?: string; bytes?: boolean }) => Promise<void>;
}

/**
 * A server on a database of its own, with three people and real files, at a moment that stands still. Not furnished:
 * another server process, in effect, on the database that is named.
 */
export async function openOffice(part: Partial<Config> = {}, furnished = true): Promise<TestOffice> {
  const folder = mkdtempSync(join(tmpdir(), 'quay-test-'));
  const databaseUrl = part.databaseUrl ?? (await freshDatabase());
  const sealingKey = part.sealingKey ?? randomBytes(32);
  const keyFile = join(folder, 'sealing-key');
  writeFileSync(keyFile, sealingKey.toString('hex'), { mode: 0o600 });
  const config: Config = {
    serves: true,
    host: '127.0.0.1',
    port: 0,
    processes: 1,
    databaseUrl,
    blobRoot: join(folder, 'blobs'),
    blobCopyRoot: null,
    importRoots: [],
    exportRoot: null,
    webRoot: resolve(import.meta.dirname, '../../../web/dist'),
    sealingKey,
    keyFile,
    codeFile: null,
    smtpUrl: null,
    mailFrom: 'quay@saltmarsh.example',
    logLevel: 'silent',
    metrics: { listen: null, token: null },
    previewsSocket: null,
    scanner: null,
    keepFreeBytes: 0,
    clockAheadMs: 0,
    pace: PACE,
    reach: NO_REACH,
    ...part,
  };
  const clock = new TestClock(START);
  const module = await Test.createTestingModule({ imports: [AppModule.with(config)] })
    .overrideProvider(Clock)
    .useValue(clock)
    .compile();
  const app = module.createNestApplication<NestExpressApplication>({
    bodyParser: false,
    forceCloseConnections: true,
    logger: false,
  });
  const db = app.get(DataSource);
  await migrate(db);
  configureApp(app, config);
  await app.listen(0, '127.0.0.1');
  const origin = `http://127.0.0.1:${(app.getHttpServer().address() as AddressInfo).port}`;
  const roots = furnished ? await furnish(db, new URL(origin)) : ({} as TestOffice['roots']);
  const client = () => new Client(origin);
  const signedIn = async (name: Name) => {
    const mine = client();
    const answer = await mine.ask('POST', '/api/session', { signInName: name, password: PASSWORDS[name] });
    if (answer.status !== 204) throw new Error(`${name} could not sign in: ${answer.body.detail}`);
    return mine;
  };
  const publish: TestOffice['publish'] = async (by, nodeIds, more = {}) => {
    const asked = {
      title: 'Mill Lane drawings',
      message: 'As agreed.',
      nodeIds,
      window: { opensAt: null, closesAt: new Date(clock.now() + 7 * 86_400_000).toISOString() },
      password: null,
      visitLimit: null,
      ...more,
    };
    const answer = await by.ask<ShareSheet>('POST', '/api/shares', asked);
    if (answer.status !== 201) throw new Error(`not published: ${answer.body.code} ${answer.body.detail}`);
    return { ...answer.body, token: answer.body.link.split('/s/')[1] as string };
  };
  const close: TestOffice['close'] = async ({ withFiles = true, broken, bytes = false } = {}) => {
    const left = furnished && broken === undefined ? await whatIsLeft(app, config, bytes) : [];
    await app.close();
    if (withFiles) rmSync(folder, { recursive: true, force: true });
    if (left.length > 0) throw new Error(`something is left: ${left.join('; ')}`);
  };
  return { app, origin, clock, db, config, roots, client, signedIn, publish, close };
}

/**
 * Whatever a test did: no transaction is open, no temporary file lies about, nothing is set aside, and everything holds
 * between tables, ledger and disk. What still ends by itself is given a moment.
 */
async function whatIsLeft(app: NestExpressApplication, config: Config, bytes: boolean): Promise<string[]> {
  const db = app.get(DataSource);
  await app.get(PreviewsService).settled();
  for (let tries = 0; ; tries += 1) {
    const open = await db.query<{ query: string }[]>(
      `SELECT query FROM pg_stat_activity WHERE datname = current_database() AND state LIKE 'idle in transaction%'`,
    );
    const held = await db.query<{ id: string }[]>('SELECT id FROM room_held WHERE ends_at IS NOT NULL');
    const uploads = await db.query<{ id: string }[]>(
      'SELECT id FROM upload WHERE answer IS NULL UNION SELECT id FROM deposit_file WHERE sha256 IS NULL',
    );
    const files = readdirSync(join(config.blobRoot, 'tmp')).filter((n) => !uploads.some((u) => n === `part-${u.id}`));
    const { violations } = await checkInvariants(db, app.get<BlobStore>(BLOBS), bytes);
    const left = [
      ...open.map((o) => `a transaction (${o.query})`),
      ...held.map((h) => `room set aside (${h.id})`),
      ...files.map((f) => `a temporary file (${f})`),
      ...violations.map((v) => `${v.rule} (${v.what})`),
    ];
    if (left.length === 0 || tries > 20) return left;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

/** A new database on the test server, with the present schema, or with nothing at all. */
export async function freshDatabase({ empty = false } = {}): Promise<string> {
  const url = new URL(inject('databaseUrl'));
  const name = `t_${randomUUID().replaceAll('-', '')}`;
  const admin = new pg.Client({ connectionString: url.href });
  await admin.connect();
  try {
    await admin.query(`CREATE DATABASE ${name} TEMPLATE ${empty ? 'template0' : await template(admin, url)}`);
  } finally {
    await admin.end();
  }
  url.pathname = `/${name}`;
  return url.href;
}

/**
 * A database with the present schema and nothing in it, made once for each run and each state of the migrations:
 * copying it is many times as quick as migrating anew. The first who needs it makes it, the others wait.
 */
async function template(admin: pg.Client, url: URL): Promise<string> {
  const state = createHash('sha256').update(SCHEMAS.join());
  const name = `template_${state.digest('hex').slice(0, 16)}`;
  const there = async () => (await admin.query('SELECT 1 FROM pg_database WHERE datname = $1', [name])).rowCount;
  if (await there()) return name;
  await admin.query('SELECT pg_advisory_lock(hashtext($1))', [name]);
  try {
    if (await there()) return name;
    const making = `${name}_making`;
    await admin.query(`DROP DATABASE IF EXISTS ${making}`);
    await admin.query(`CREATE DATABASE ${making}`);
    const target = new URL(url);
    target.pathname = `/${making}`;
    const source = await new DataSource(dataSourceOptions(target.href, ENTITIES)).initialize();
    await migrate(source);
    await source.destroy();
    // Under its name only when it is whole.
    await admin.query(`ALTER DATABASE ${making} RENAME TO ${name}`);
    return name;
  } finally {
    await admin.query('SELECT pg_advisory_unlock(hashtext($1))', [name]);
  }
}

/** Working a hash out is slow on purpose; every office of a run has the same three. */
const hashes = new Map<string, Promise<string>>();
function hashOnce(password: string): Promise<string> {
  const hash = hashes.get(password) ?? hashPassword(password);
  hashes.set(password, hash);
  return hash;
}

async function furnish(db: DataSource, address: URL): Promise<TestOffice['roots']> {
  const at = new Date(START - 86_400_000);
  const roots = {} as TestOffice['roots'];
  await db.query('INSERT INTO office (name, zone) VALUES ($1, $2)', ['Saltmarsh Survey', 'Europe/London']);
  await db.query('INSERT INTO address (id, scheme, host, port, is_default) VALUES ($1, $2, $3, $4, true)', [
    randomUUID(),
    'http',
    address.hostname,
    Number(address.port),
  ]);
  const addStore = async (key: keyof TestOffice['roots'], kind: string, name: string, owner: string | null) => {
    const [store, root] = [randomUUID(), randomUUID()];
    await db.query('INSERT INTO store (id, kind, name, owner_id, created_at) VALUES ($1, $2, $3, $4, $5)', [
      store,
      kind,
      name,
      owner,
      at,
    ]);
    await db.query(
      `INSERT INTO node (id, store_id, kind, name, name_key, created_at, changed_at, others_rule)
        VALUES ($1, $2, 'folder', $3, $4, $5, $5, 'read')`,
      [root, store, name, nameKey(name), at],
    );
    roots[key] = root;
    return store;
  };
  const people = {} as Record<Name, string>;
  for (const [name, password] of Object.entries(PASSWORDS) as [Name, string][]) {
    people[name] = randomUUID();
    await db.query(
      // Notices that nobody asked for would come between the mail of a test.
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, notices)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, '{}')`,
      [
        people[name],
        name,
        `${name}@saltmarsh.example`,
        { iris: 'Iris Ward', tomas: 'Tomas Osei', rosa: 'Rosa Quill' }[name],
        name.slice(0, 2).toUpperCase(),
        name === 'iris' ? 'admin' : 'staff',
        await hashOnce(password),
        at,
      ],
    );
    await addStore(name, 'home', name, people[name]);
  }
  await addStore('projects', 'common', 'Projects', null);
  await grantOn(db, roots.projects, null, 'edit');
  await addStore('partners', 'common', 'Partners', null);
  await grantOn(db, roots.partners, people.tomas, 'view');
  return roots;
}
