import { fork, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { resolve } from 'node:path';
import type { ReachConfig } from '../platform/config.js';
import { NO_REACH } from '../platform/config.js';
import type { Wiring } from '../platform/dialler.js';
import { freePort } from './free-port.js';

/** The outside world as a program of its own, and how a server stands in it. */
export interface Outside {
  reach: ReachConfig;
  /** The certificate of the directory, which is at 192.168.20.15 port 636. */
  directoryRoot: string;
  /** Base64: the key of the name servers. */
  updateSecret: string;
  /** Where the router's public side answers, on this machine. */
  publicSide: (port: number) => { host: string; port: number };
  faults: (wanted: Record<string, boolean | number>) => Promise<void>;
  state: () => Promise<{
    records: { network: string; name: string; type: string; value: string }[];
    mappings: { external: number; to: string; secondsLeft: number; by: string }[];
    certificates: { names: string[] }[];
    relayed: { names: string[]; bytes: number };
    places: Record<string, number> & { relay: { tls: number } };
  }>;
  close: () => Promise<void>;
}

/** @param more of its surroundings, as its program takes them */
export async function openOutside(more: Record<string, string> = {}): Promise<Outside> {
  const [web, smtp, tls, plain, offset] = [
    await freePort(),
    await freePort(),
    await freePort(),
    await freePort(),
    20_000 + Math.floor(Math.random() * 20_000),
  ];
  const [updateKey, probeToken, relayKey] = [
    randomBytes(32),
    randomBytes(16).toString('hex'),
    randomBytes(32).toString('hex'),
  ];
  const gateway = `127.${20 + Math.floor(Math.random() * 200)}.${Math.floor(Math.random() * 250)}.1`;
  const child = fork(resolve(import.meta.dirname, '../../../outside/dist/main.js'), [], {
    env: {
      ...process.env,
      OUTSIDE_WEB_PORT: String(web),
      OUTSIDE_SMTP_PORT: String(smtp),
      OUTSIDE_SERVER_TLS_PORT: String(tls),
      OUTSIDE_SERVER_PLAIN_PORT: String(plain),
      OUTSIDE_PUBLIC_OFFSET: String(offset),
      OUTSIDE_GATEWAY: gateway,
      OUTSIDE_PUBLIC: gateway,
      OUTSIDE_UPDATE_KEY: updateKey.toString('hex'),
      OUTSIDE_PROBE_TOKEN: probeToken,
      OUTSIDE_RELAY_KEY: relayKey,
      ...more,
    },
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  });
  await ready(child);
  const origin = `http://127.0.0.1:${web}`;
  const wiring = (await (await fetch(`${origin}/api/wiring`)).json()) as Wiring & { resolvers: string[] };
  const state = async () =>
    (await (await fetch(`${origin}/api/world`)).json()) as Awaited<ReturnType<Outside['state']>>;
  const { places } = await state();
  const probe = (address: string) => ({ url: `http://${address}:8099/`, token: probeToken });
  return {
    reach: {
      ...NO_REACH,
      insideAddress: '192.168.20.10',
      tls: { host: '127.0.0.1', port: tls },
      plain: { host: '127.0.0.1', port: plain },
      gateway: '192.168.20.1',
      resolvers: wiring.resolvers,
      stun: { address: '203.0.113.34', port: 3478 },
      acmeDirectory: `http://127.0.0.1:${places['authority']}/directory`,
      roots: [await (await fetch(`${origin}/api/root.pem`)).text()],
      probes: { outside: probe('203.0.113.7'), guest: probe('192.168.40.77'), tunnel: probe('192.168.20.200') },
      relay: await (await fetch(`${origin}/api/invitation`)).text(),
      wiring,
    },
    directoryRoot: await (await fetch(`${origin}/api/directory.pem`)).text(),
    updateSecret: updateKey.toString('base64'),
    publicSide: (port) => ({ host: gateway, port: port + offset }),
    faults: async (wanted) => {
      const body = new URLSearchParams(
        Object.entries(wanted)
          .filter(([, v]) => v !== false)
          .map(([k, v]) => [k, v === true ? 'on' : String(v)]),
      );
      const answer = await fetch(`${origin}/faults`, { method: 'POST', body, redirect: 'manual' });
      if (answer.status !== 303) throw new Error(await answer.text());
    },
    state,
    close: () =>
      new Promise((done) => {
        child.once('exit', () => done());
        child.kill();
      }),
  };
}

function ready(child: ChildProcess): Promise<void> {
  return new Promise((done, failed) => {
    child.once('message', (message: { ready?: boolean; failed?: string }) =>
      message.ready ? done() : failed(new Error(message.failed)),
    );
    child.once('exit', (code) => failed(new Error(`the outside world ended (${code})`)));
  });
}
