import { execFileSync, spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { vi } from 'vitest';

// Networks of the test's own, in Linux network namespaces: machines, a router with NAT and a firewall, the world. Nothing
// of it touches the networks of the machine.

/** A program that runs on a machine of the laboratory until it is ended. */
export interface Running {
  /** What it has said on both of its outputs, the last 200 kB of it. */
  said: () => string;
  signal: (signal: NodeJS.Signals) => void;
  end: (signal?: NodeJS.Signals) => Promise<void>;
}

interface How {
  env?: Record<string, string>;
  /** What it says, or a question that no longer fails, once it is ready. */
  ready?: RegExp | (() => unknown);
  readyMs?: number;
}

/** A machine: a network namespace with interfaces and programs. */
export class Machine {
  private readonly running = new Set<Running>();

  constructor(
    readonly name: string,
    readonly namespace: string,
    /** Where its programs keep their files. */
    readonly folder: string,
  ) {}

  /** Runs a command there. @throws Error with what it said, when it fails */
  run(command: string, ...args: string[]): string {
    return execFileSync('ip', ['netns', 'exec', this.namespace, command, ...args], {
      encoding: 'utf8',
      stdio: ['ignore', 'pipe', 'pipe'],
      timeout: 30_000,
    });
  }

  /** Runs a command there that may fail, without holding up what else this process does. */
  async ask(command: string, ...args: string[]): Promise<{ code: number | null; out: string; err: string }> {
    const child = spawn('ip', ['netns', 'exec', this.namespace, command, ...args], {
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    const said = { out: '', err: '' };
    child.stdout.on('data', (piece: Buffer) => (said.out += piece.toString()));
    child.stderr.on('data', (piece: Buffer) => (said.err += piece.toString()));
    const code = await new Promise<number | null>((resolve) => child.once('close', resolve));
    return { code, ...said };
  }

  /** The same, which has to work. @throws Error with what it said, when it fails */
  async must(command: string, ...args: string[]): Promise<string> {
    const { code, out, err } = await this.ask(command, ...args);
    if (code !== 0) throw new Error(`${command} ${args.join(' ')}: ${err || out || `code ${code}`}`);
    return out;
  }

  /** Gives nftables its rules, in place of all before. */
  rules(text: string): void {
    execFileSync('ip', ['netns', 'exec', this.namespace, 'nft', '-f', '-'], { input: `flush ruleset\n${text}` });
  }

  file(name: string, text: string): string {
    const path = join(this.folder, name);
    writeFileSync(path, text, { mode: 0o644 });
    return path;
  }

  /** Starts a program there, and waits until it is ready. @throws Error with what it said, when it is not in time */
  async start(command: string, args: string[], { env = {}, ready, readyMs = 15_000 }: How = {}): Promise<Running> {
    const child = spawn('ip', ['netns', 'exec', this.namespace, command, ...args], {
      env: { ...process.env, ...env },
      cwd: this.folder,
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    const running = heard(child, () => this.running.delete(running));
    this.running.add(running);
    const isReady = async () => {
      if (child.exitCode !== null || child.signalCode !== null) throw new Error('it ended');
      if (ready instanceof RegExp && !ready.test(running.said())) throw new Error('it does not say so');
      if (typeof ready === 'function') await ready();
    };
    try {
      if (ready) await vi.waitFor(isReady, { timeout: readyMs, interval: 50 });
    } catch (error) {
      throw new Error(`${command} on ${this.name}: ${(error as Error).message}\n${running.said()}`, { cause: error });
    }
    return running;
  }

  async end(): Promise<void> {
    await Promise.all([...this.running].map((running) => running.end()));
  }
}

function heard(child: ChildProcess, gone: () => void): Running {
  let said = '';
  const take = (piece: Buffer) => (said = (said + piece.toString()).slice(-200_000));
  child.stdout?.on('data', take);
  child.stderr?.on('data', take);
  const ended = new Promise<void>((resolve) => child.once('close', () => resolve()));
  void ended.then(gone);
  const end = async (signal: NodeJS.Signals = 'SIGTERM') => {
    if (child.exitCode === null && child.signalCode === null) child.kill(signal);
    const late = setTimeout(() => child.kill('SIGKILL'), 5000);
    await ended;
    clearTimeout(late);
  };
  return { said: () => said, signal: (signal) => void child.kill(signal), end };
}

let links = 0;

/** All machines of one laboratory. */
export class Net {
  private readonly machines: Machine[] = [];
  /** Ends of cables that are in this process's own network. */
  private readonly here: string[] = [];
  private constructor(private readonly folder: string) {}

  static open(): Net {
    return new Net(mkdtempSync(join(tmpdir(), 'quay-lab-')));
  }

  /** @param resolver the name server that its programs ask */
  machine(name: string, resolver: string): Machine {
    const namespace = `quay-lab-${process.pid}-${name}`;
    execFileSync('ip', ['netns', 'add', namespace]);
    // ip-netns(8): found by programs there in place of the machine's own.
    mkdirSync(`/etc/netns/${namespace}`, { recursive: true });
    writeFileSync(`/etc/netns/${namespace}/resolv.conf`, `nameserver ${resolver}\n`);
    const folder = join(this.folder, name);
    mkdirSync(folder);
    const machine = new Machine(name, namespace, folder);
    this.machines.push(machine);
    machine.run('ip', 'link', 'set', 'lo', 'up');
    return machine;
  }

  /** A cable between two machines, or from one to this process (null). */
  link(one: [Machine, string], other: [Machine | null, string]): void {
    const ends = [0, 1].map(() => `ql${process.pid % 100_000}x${(links += 1)}`) as [string, string];
    execFileSync('ip', ['link', 'add', ends[0], 'type', 'veth', 'peer', 'name', ends[1]]);
    for (const [i, [machine, name]] of [one, other].entries()) {
      const end = ends[i] as string;
      if (machine) execFileSync('ip', ['link', 'set', end, 'netns', machine.namespace, 'name', name]);
      else {
        execFileSync('ip', ['link', 'set', end, 'name', name]);
        this.here.push(name);
      }
      if (machine) machine.run('ip', 'link', 'set', name, 'up');
      else execFileSync('ip', ['link', 'set', name, 'up']);
    }
  }

  async close(): Promise<void> {
    await Promise.all(this.machines.map((machine) => machine.end()));
    for (const name of this.here) spawnSync('ip', ['link', 'del', name], { stdio: 'ignore' });
    for (const { namespace } of this.machines) {
      spawnSync('ip', ['netns', 'del', namespace], { stdio: 'ignore' });
      rmSync(`/etc/netns/${namespace}`, { recursive: true, force: true });
    }
    rmSync(this.folder, { recursive: true, force: true });
  }
}
