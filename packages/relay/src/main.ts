#!/usr/bin/env node
// A relay for offices whose line lets nobody in. One program without dependencies, for a rented machine:
//   relay serve    --folder DIR                          passes visitors on
//   relay invite   OFFICE [--name HOST]... --folder DIR  makes room for an office, and prints the code for it
//   relay offices  --folder DIR                          who they are
//   relay remove   OFFICE --folder DIR
// SIGHUP: a new process takes over, and the old one lets its visitors end. SIGTERM: the same without a new one.
import cluster, { type Worker } from 'node:cluster';
import { lookup } from 'node:dns/promises';
import { parseArgs } from 'node:util';
import { readConfig, type RelayConfig } from './config.js';
import { invitationText } from './invitation.js';
import { Usage } from './limits.js';
import { Register } from './register.js';
import { Relay } from './relay.js';
import { statusServer } from './status.js';

const USAGE = 'Usage: relay serve|invite OFFICE [--name HOST]...|offices|remove OFFICE  --folder DIR';

async function main(): Promise<number> {
  const { values, positionals } = parseArgs({
    allowPositionals: true,
    options: { folder: { type: 'string' }, name: { type: 'string', multiple: true } },
  });
  const [command = '', office = ''] = positionals;
  const folder = values.folder;
  if (!folder) return told(USAGE, 1);
  const config = readConfig(folder);
  const register = new Register(folder, config.domain);
  switch (command) {
    case 'serve':
      return cluster.isPrimary ? supervise(config) : serve(config, folder, register);
    case 'invite':
      return told(invite(config, register, office, values.name ?? []), 0);
    case 'offices':
      return told(register.offices.map((o) => `${o.id}  ${o.names.join(' ')}`).join('\n'), 0);
    case 'remove':
      return register.remove(office) ? told(`${office} is removed.`, 0) : told(`There is no office ${office}.`, 1);
    default:
      return told(USAGE, 1);
  }
}

function invite({ host, ports, domain }: RelayConfig, register: Register, office: string, names: string[]): string {
  const given = names.length > 0 ? names.map((n) => n.toLowerCase()) : domain ? [`${office}.${domain}`] : [];
  const row = register.add({ id: office, names: given, brings: true, limits: {} });
  const secret = Buffer.from(row.secret, 'base64url');
  return invitationText({ host, port: ports.line, office, secret });
}

/** What the first process and one that serves say to each other while another takes over, in this order. */
type Word = 'visitors-open' | 'close-to-visitors' | 'quiet' | 'open-to-offices' | 'offices-open' | 'leave';

/** Set for a process that takes over from another. */
const FOLLOWS = 'RELAY_FOLLOWS';

/** Keeps one process that serves, and puts a new one in its place when it is asked to. */
function supervise({ leaveSeconds }: RelayConfig): Promise<number> {
  return new Promise((resolve) => {
    let serving = cluster.fork();
    let ending = false;
    let following = false;
    const tell = (worker: Worker, word: Word) => worker.isConnected() && worker.send(word);
    const after = (worker: Worker, word: Word, then: () => void) =>
      worker.on('message', (said: Word) => said === word && then());
    process.on('SIGHUP', () => {
      if (ending || following) return;
      following = true;
      const [old, next] = [serving, cluster.fork({ [FOLLOWS]: '1' })];
      const done = () => (following = false);
      next.once('exit', done);
      after(next, 'visitors-open', () => tell(old, 'close-to-visitors'));
      after(old, 'quiet', () => tell(next, 'open-to-offices'));
      old.once('exit', () => tell(next, 'open-to-offices'));
      after(next, 'offices-open', () => {
        serving = next;
        done();
        tell(old, 'leave');
      });
    });
    const end = () => {
      if (ending) return;
      ending = true;
      for (const worker of Object.values(cluster.workers ?? {})) if (worker) tell(worker, 'leave');
      setTimeout(() => process.exit(0), (leaveSeconds + 5) * 1000).unref();
    };
    process.on('SIGTERM', end);
    process.on('SIGINT', end);
    cluster.on('exit', (worker, code) => {
      if (ending && Object.keys(cluster.workers ?? {}).length === 0) return resolve(0);
      if (ending || worker !== serving) return;
      // It died: another serves after a moment, unless it never could.
      if (code === CANNOT) return resolve(1);
      setTimeout(() => (serving = cluster.fork()), 1000);
    });
  });
}

/** The exit code of a process that could not open its doors. */
const CANNOT = 3;

async function serve(config: RelayConfig, folder: string, register: Register): Promise<number> {
  const { listen: host, ports, status, leaveSeconds } = config;
  const usage = new Usage(folder, Date.now);
  const relay = new Relay({ register, usage, ...config, addresses: await addressesOf(config) });
  const page = statusServer(() => relay.status());
  const say = (word: Word) => process.send?.(word);
  let isOpen = !process.env[FOLLOWS];
  try {
    await relay.listenForVisitors(host, ports);
    if (isOpen) await relay.listenForOffices(host, ports.line);
    await new Promise<void>((resolve, reject) => page.once('error', reject).listen(status.port, status.host, resolve));
  } catch (error) {
    console.error(`relay: ${(error as Error).message}`);
    return CANNOT;
  }
  say('visitors-open');
  console.log(`A relay: visitors at ${ports.tls} and ${ports.plain}, offices at ${ports.line}.`);
  return new Promise((resolve) => {
    const fail = (error: unknown) => {
      console.error(`relay: ${(error as Error).message}`);
      resolve(1);
    };
    const leave = () => {
      page.close();
      relay.leave(leaveSeconds * 1000).then(() => resolve(0), fail);
    };
    const heard: Partial<Record<Word, () => void>> = {
      'close-to-visitors': () => {
        relay.closeToVisitors().then(() => say('quiet'), fail);
      },
      'open-to-offices': () => {
        if (isOpen) return;
        isOpen = true;
        relay.listenForOffices(host, ports.line).then(() => say('offices-open'), fail);
      },
      leave,
    };
    process.on('message', (word: Word) => heard[word]?.());
    // The group gets the signals of a terminal, and of a service manager: the first process says what is done.
    for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const) process.on(signal, () => undefined);
    process.once('disconnect', leave);
  });
}

/** Where names must lead: what the file says, or what the machine's own name leads to. */
async function addressesOf({ addresses, host }: RelayConfig): Promise<string[]> {
  if (addresses.length > 0) return addresses;
  const found = await lookup(host, { all: true }).catch(() => []);
  return found.map(({ address }) => address);
}

function told(words: string, code: number): number {
  (code === 0 ? console.log : console.error)(words);
  return code;
}

try {
  process.exit(await main());
} catch (error) {
  process.exit(told(`relay: ${(error as Error).message}`, 1));
}
