import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { startProgram } from './lib/children.mjs';
import { build, requireNpmPackages, requirePrograms, ROOT, VAR } from './lib/install.mjs';
import { answers, requireDatabase, startPostgres } from './lib/postgres.mjs';
import { startOutside } from './lib/outside.mjs';
import { fail, option, say } from './lib/words.mjs';

export function portsFrom(args) {
  const port = Number(option(args, '--port', '4180'));
  if (!Number.isInteger(port) || port < 1024 || port > 65_000) fail('--port takes a number from 1024 to 65000.');
  return { web: port, database: port + 1, smtp: port + 2, outside: port + 3, tls: port + 4, plain: port + 5 };
}

export async function run(args) {
  const office = await open(args);
  say(`\nLockfast Quay serves at http://127.0.0.1:${office.ports.web}   (Ctrl C ends it)`);
  await untilEnded(office);
}

/** Installs, builds and starts database, outside world and server. `between` runs when the database is up, before the server. */
export async function open(args, between = async () => undefined) {
  const ports = portsFrom(args);
  requirePrograms('postgres', 'setpriv', 'bwrap', 'pdftoppm');
  requireNpmPackages();
  build();
  for (const [what, port] of [
    ['the web server', ports.web],
    ['the mail catcher', ports.smtp],
    ['the outside world', ports.outside],
    ['the encrypted door', ports.tls],
    ['the plain door', ports.plain],
  ]) {
    if (await answers(port))
      fail(
        `port ${port} is in use, so ${what} cannot start there. End what uses it, or choose other ports: ./quay demo --port 5180`,
      );
  }
  mkdirSync(VAR, { recursive: true });
  mkdirSync(join(VAR, 'adopt'), { recursive: true });
  const stops = [];
  const stop = async () => {
    while (stops.length) await stops.pop()();
  };
  try {
    const database = await startPostgres(join(VAR, 'postgres'), ports.database);
    stops.push(database.stop);
    await requireDatabase(database, 'quay');
    const env = environment(database.url('quay'), ports);
    await between(env);
    const outside = await startOutside(VAR, ports);
    stops.push(outside.stop);
    const serverEnv = { ...env, ...outside.env };
    const start = () => startProgram(join(ROOT, 'apps/server/dist/main.js'), serverEnv, 'the server');
    let server = await start();
    stops.push(() => server.stop());
    const office = { ports, env, stop, children: [database.child, outside.child, server.child] };
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

function environment(databaseUrl, ports) {
  const keyFile = join(VAR, 'sealing-key');
  if (!existsSync(keyFile)) writeFileSync(keyFile, randomBytes(32).toString('hex'), { mode: 0o600 });
  return {
    QUAY_DATABASE_URL: databaseUrl,
    QUAY_BLOBS: join(VAR, 'blobs'),
    QUAY_IMPORT_ROOTS: process.env.QUAY_IMPORT_ROOTS ?? join(VAR, 'adopt'),
    QUAY_EXPORT_ROOT: process.env.QUAY_EXPORT_ROOT ?? join(VAR, 'exports'),
    QUAY_BLOB_COPY: process.env.QUAY_BLOB_COPY ?? '',
    QUAY_KEY_FILE: keyFile,
    QUAY_WEB: join(ROOT, 'apps/web/dist'),
    QUAY_PORT: String(ports.web),
    QUAY_SMTP_URL: `smtp://127.0.0.1:${ports.smtp}`,
    QUAY_MAIL_FROM: 'quay@saltmarsh.example',
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

export function forgetEverything() {
  rmSync(VAR, { recursive: true, force: true });
}
