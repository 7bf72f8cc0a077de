import { execFile, spawn, type ChildProcess } from 'node:child_process';
import { createRequire } from 'node:module';
import { connect } from 'node:net';
import { dirname, join } from 'node:path';
import type { Duplex } from 'node:stream';
import { promisify } from 'node:util';
import { log } from '../platform/log/log.js';

/**
 * Shuts a program of ours in (bubblewrap, bwrap(1)): a file system of its own that holds the system's programs and
 * fonts, Node.js and our packages, all read-only, and nothing of the office; no network, no other processes, no
 * capabilities. It ends when we do.
 */
export function walls(script: string): string[] {
  const node = dirname(dirname(process.execPath));
  const packages = /^.*\/node_modules(?=\/)/.exec(createRequire(import.meta.url).resolve('sharp'))?.[0] ?? '';
  // The core lies beside the script, in a checkout as in a release: a link leads to it.
  const core = dirname(dirname(dirname(createRequire(script).resolve('@quay/core/watermark'))));
  const shown = ['/etc/fonts', '/etc/ld.so.cache', '/etc/alternatives', '/var/cache/fontconfig', node, packages, core];
  return [
    '--unshare-all',
    '--die-with-parent',
    '--new-session',
    '--cap-drop',
    'ALL',
    ...['--proc', '/proc', '--dev', '/dev', '--tmpfs', '/tmp', '--chdir', '/'],
    ...['--ro-bind', '/usr', '/usr'],
    ...['bin', 'lib', 'lib64'].flatMap((name) => ['--symlink', `usr/${name}`, `/${name}`]),
    ...shown.flatMap((path) => ['--ro-bind-try', path, path]),
    ...['--ro-bind', dirname(script), dirname(script)],
    ...['--ro-bind', join(dirname(script), '../../package.json'), join(dirname(script), '../../package.json')],
    // Of an installed release: links to the packages.
    ...[
      '--ro-bind-try',
      join(dirname(script), '../../../../node_modules'),
      join(dirname(script), '../../../../node_modules'),
    ],
  ];
}

let works: Promise<boolean> | null = null;

/** Whether this machine can shut a program in. Asked once; a machine that cannot is told of in the log. */
export function canShutIn(script: string, socket: string | null): Promise<boolean> {
  if (socket !== null) return Promise.resolve(true);
  works ??= promisify(execFile)('bwrap', [...walls(script), process.execPath, '--version'], { timeout: 20_000 }).then(
    () => true,
    (error: Error) => {
      log.error(
        { err: error },
        "no pictures of files are made: Debian's bubblewrap is missing, or this kernel forbids it",
      );
      return false;
    },
  );
  return works;
}

/** A program that is shut in, and the line to it. */
export interface ShutIn {
  line: Duplex;
  /** Ends it, whatever it is at. */
  kill: () => void;
}

/**
 * Starts a script of ours shut in, with one line to it as its descriptor 3.
 * @param socket where the service manager does that itself, for each connection (systemd.socket(5), Accept=yes): a
 *   server that may make no namespaces cannot; null: by bubblewrap
 * @param ended hears that it is no more
 */
export function shutIn(script: string, socket: string | null, ended: () => void): ShutIn {
  if (socket === null) return byBubblewrap(script, ended);
  const line = connect(socket);
  line.on('error', () => undefined);
  line.once('close', ended);
  line.unref();
  return { line, kill: () => void line.destroy() };
}

function byBubblewrap(script: string, ended: () => void): ShutIn {
  const worker = started(script);
  const line = worker.stdio[3] as unknown as Duplex & { unref: () => void };
  line.on('error', () => undefined);
  worker.on('error', () => undefined);
  worker.once('exit', ended);
  worker.unref();
  line.unref();
  return { line, kill: () => void worker.kill('SIGKILL') };
}

function started(script: string): ChildProcess {
  return spawn('bwrap', [...walls(script), process.execPath, script], {
    stdio: ['ignore', 'ignore', 'ignore', 'pipe'],
    env: { PATH: '/usr/bin:/bin', MALLOC_ARENA_MAX: '2' },
  });
}
