import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { createServer, connect, type Server } from 'node:net';
import { join, resolve } from 'node:path';
import type { AddressRow, AddressSheet, ReachCheck } from '@quay/contract';
import type { Vantage } from '@quay/core';
import { vi } from 'vitest';
import { Client, openOffice, PASSWORDS, type Answer } from '../../apps/server/src/_fixtures/office.js';
import { ended } from '../../apps/server/src/_fixtures/reach.js';
import type { ReachConfig } from '../../apps/server/src/platform/config.js';
import type { Machine, Running } from './net.js';
import type { Cable, Network } from './network.js';

const MAIN = resolve(import.meta.dirname, '../../apps/server/dist/main.js');
const PORT = 4180;

/** The product's own server process on the server's machine, as it is installed, without any wiring. */
export interface LabOffice {
  iris: Client;
  /** Ends the process and begins another, as after an upgrade. */
  restart: (signal?: NodeJS.Signals) => Promise<void>;
  /** What it has logged. */
  said: () => string;
  close: () => Promise<void>;
}

export async function openLabOffice(
  { net }: Pick<Network, 'net'>,
  reach: Partial<ReachConfig>,
  { server, cable }: { server: Machine; cable: Cable },
): Promise<LabOffice> {
  net.link([server, 'cable'], [null, cable.name]);
  server.run('ip', 'addr', 'add', `${cable.server}/30`, 'dev', 'cable');
  execFileSync('ip', ['addr', 'add', `${cable.here}/30`, 'dev', cable.name]);
  // Made and furnished here, and then served over there.
  const made = await openOffice();
  await made.close({ withFiles: false });
  const database = new URL(made.config.databaseUrl);
  const way = await passOn(cable.here, Number(database.port));
  database.host = `${cable.here}:${way.port}`;
  const key = join(server.folder, 'key');
  writeFileSync(key, made.config.sealingKey.toString('hex'), { mode: 0o600 });
  const reachFile = join(server.folder, 'reach.json');
  writeFileSync(reachFile, JSON.stringify(reach), { mode: 0o600 });
  const origin = `http://${cable.server}:${PORT}`;
  const begin = (): Promise<Running> =>
    server.start(process.execPath, ['--enable-source-maps', MAIN], {
      env: {
        QUAY_DATABASE_URL: database.href,
        QUAY_BLOBS: made.config.blobRoot,
        QUAY_KEY_FILE: key,
        QUAY_REACH_FILE: reachFile,
        QUAY_HOST: '0.0.0.0',
        QUAY_PORT: String(PORT),
        QUAY_LOG: 'warn',
      },
      ready: async () => {
        if ((await fetch(`${origin}/readyz`)).status !== 200) throw new Error('it is not ready');
      },
      readyMs: 40_000,
    });
  let running = await begin();
  const iris = new Client(origin);
  const signedIn = await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
  if (signedIn.status !== 204) throw new Error(`iris could not sign in: ${signedIn.body.detail}`);
  return {
    iris,
    said: () => running.said(),
    restart: async (signal) => {
      await running.end(signal);
      running = await begin();
    },
    close: async () => {
      await running.end();
      way.server.close();
    },
  };
}

/** Lets the server's machine come to the database, which listens for this one alone. */
async function passOn(host: string, toPort: number): Promise<{ server: Server; port: number }> {
  const server = createServer((socket) => {
    const there = connect(toPort, '127.0.0.1');
    socket.pipe(there).pipe(socket);
    socket.on('error', () => there.destroy());
    there.on('error', () => socket.destroy());
  });
  await new Promise<void>((done) => server.listen(0, host, done));
  return { server, port: (server.address() as { port: number }).port };
}

/** What somebody does about an address, in as few words as a test needs. */
export class OfficeAddress {
  private constructor(
    private readonly iris: Client,
    readonly row: AddressRow,
  ) {}

  static async add(iris: Client, host: string, part: Record<string, unknown> = {}): Promise<OfficeAddress> {
    const asked = { wayIn: 'mapping', scheme: 'https', host, port: 443, uses: 'visitors', ...part };
    const added = await iris.ask<AddressRow>('POST', '/api/reach/addresses', asked);
    if (added.status !== 201) throw new Error(`no address: ${added.body.detail}`);
    return new OfficeAddress(iris, added.body);
  }

  private get at(): string {
    return `/api/reach/addresses/${this.row.id}`;
  }

  check = async (): Promise<ReachCheck> => (await this.iris.ask<ReachCheck>('POST', `${this.at}/check`)).body;

  act = async (act: string, vantage: Vantage = 'outside'): Promise<Answer<ReachCheck>> =>
    ended(this.iris, this.at, await this.iris.ask<ReachCheck>('POST', `${this.at}/remedies/${vantage}`, { act }));

  /** The same, which has to work. */
  async does(act: string, vantage: Vantage = 'outside'): Promise<ReachCheck> {
    const { status, body } = await this.act(act, vantage);
    if (status !== 200) throw new Error(`${act}: ${body.code} ${body.detail}`);
    return body;
  }

  sheet = async (): Promise<AddressSheet> => (await this.iris.ask<AddressSheet>('GET', this.at)).body;
}

/** Waits until a question no longer fails. */
export const until = (ask: () => unknown, mostMs = 20_000): Promise<unknown> =>
  vi.waitFor(ask, { timeout: mostMs, interval: 250 });
