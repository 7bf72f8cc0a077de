import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, writeFileSync } from 'node:fs';
import { hostname, networkInterfaces } from 'node:os';
import { join } from 'node:path';
import { startProgram } from './lib/children.mjs';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './lib/install.mjs';
import { answers, requireDatabase, startPostgres } from './lib/postgres.mjs';
import { startOutside } from './lib/outside.mjs';
import { fail, option, say } from './lib/words.mjs';

export function portsFrom(args) {
  const port = Number(option(args, '--port', '4180'));
  if (!Number.isInteger(port) || port < 1024 || port > 65_000) fail('--port takes a number from 1024 to 65000.');
  return { web: port, database: port + 1, smtp: port + 2, outside: port + 3, tls: port + 4, plain: port + 5 };
}

/** The product itself: no demo data, no outside world. It is set up in a browser when there is no office yet. */
export async function run(args) {
  const host = option(args, '--host', '0.0.0.0');
  const office = await open(args, { folder: dataFolder(args), host });
  const names = host === '0.0.0.0' ? [hostname(), ...ownAddresses()] : [host];
  say(`\nLockfast Quay serves at\n${names.map((name) => `  http://${name}:${office.ports.web}`).join('\n')}`);
  say('\nCtrl C ends it; the data stays.');
  await untilEnded(office);
}

/** Where this machine is found in its network (IPv4). */
const ownAddresses = () =>
  Object.values(networkInterfaces())
    .flat()
    .filter((at) => at.family === 'IPv4' && !at.internal)
    .map((at) => at.address);

/**
 * Installs, builds and starts database and server.
 * @param how `outside` starts the outside world and tells the server of it; `between` runs when the database is up,
 *   before the server
 */
export async function open(args, { folder, host = '127.0.0.1', outside = false, between = async () => undefined }) {
  const ports = portsFrom(args);
  requirePrograms('postgres', 'setpriv', 'bwrap', 'pdftoppm');
  requireNpmPackages();
  build();
  await requireFree(ports, outside);
  for (const name of ['', 'adopt']) mkdirSync(join(folder, name), { recursive: true });
  const stops = [];
  const stop = async () => {
    while (stops.length) await stops.pop()();
  };
  try {
    const database = await startPostgres(join(folder, 'postgres'), ports.database);
    stops.push(database.stop);
    await requireDatabase(database, 'quay');
    const env = environment(folder, database.url('quay'), ports, host);
    const children = [database.child];
    if (outside) env.QUAY_SMTP_URL = `smtp://127.0.0.1:${ports.smtp}`;
    await between(env);
    if (outside) {
      const world = await startOutside(folder, ports);
      stops.push(world.stop);
      children.push(world.child);
      Object.assign(env, world.env);
    }
    const start = () => startProgram(join(ROOT, 'apps/server/dist/main.js'), env, 'the server');
    let server = await start();
    stops.push(() => server.stop());
    const office = { ports, env, stop, children: [...children, server.child] };
    /** Ends the server and starts it anew, as it is built now. */
    office.restartServer = async () => {
      office.children.splice(office.children.indexOf(server.child), 1);
      await server.stop();
      server = await start();
      office.children.push(server.child);
      office.follow?.(server.child);
    };
    return office;
  } catch (error) {
    await stop();
    throw error;
  }
}

async function requireFree(ports, outside) {
  const wanted = [
    ['the web server', ports.web],
    ...(outside
      ? [
          ['the mail catcher', ports.smtp],
          ['the outside world', ports.outside],
          ['the encrypted door', ports.tls],
          ['the plain door', ports.plain],
        ]
      : []),
  ];
  for (const [what, port] of wanted)
    if (await answers(port))
      fail(
        `port ${port} is in use, so ${what} cannot start there. End what uses it, or choose other ports, as with --port 5180.`,
      );
}

export function environment(folder, databaseUrl, ports, host) {
  const keyFile = join(folder, 'sealing-key');
  const reachFile = process.env.QUAY_REACH_FILE ?? join(folder, 'reach.json');
  if (!existsSync(keyFile)) writeFileSync(keyFile, randomBytes(32).toString('hex'), { mode: 0o600 });
  return {
    QUAY_DATABASE_URL: databaseUrl,
    QUAY_BLOBS: join(folder, 'blobs'),
    QUAY_IMPORT_ROOTS: process.env.QUAY_IMPORT_ROOTS ?? join(folder, 'adopt'),
    QUAY_EXPORT_ROOT: process.env.QUAY_EXPORT_ROOT ?? join(folder, 'exports'),
    QUAY_BLOB_COPY: process.env.QUAY_BLOB_COPY ?? '',
    QUAY_KEY_FILE: keyFile,
    QUAY_WEB: join(ROOT, 'apps/web/dist'),
    QUAY_HOST: host,
    QUAY_PORT: String(ports.web),
    QUAY_CODE_FILE: join(folder, 'first-start-code'),
    QUAY_SMTP_URL: process.env.QUAY_SMTP_URL ?? '',
    QUAY_SCANNER: process.env.QUAY_SCANNER ?? '',
    QUAY_MAIL_FROM: process.env.QUAY_MAIL_FROM ?? 'quay@saltmarsh.example',
    ...(existsSync(reachFile) && { QUAY_REACH_FILE: reachFile }),
    QUAY_LOG: process.env.QUAY_LOG ?? 'warn',
  };
}

/** Waits for Ctrl C, a kill, or the end of any part; then ends the rest. */
export function untilEnded(office) {
  return new Promise((resolve) => {
    let ending = false;
    const end = async (code) => {
      if (ending) return;
      ending = true;
      await office.stop();
      resolve(code);
      process.exit(code);
    };
    for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(signal, () => void end(0));
    office.follow = (child) =>
      child.once('exit', () => {
        if (!office.children.includes(child)) return;
        if (!ending)
          console.error('quay: a part of the product ended by itself; ending the rest. The lines above say why.');
        void end(1);
      });
    for (const child of office.children) office.follow(child);
  });
}
