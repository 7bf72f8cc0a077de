import { spawn, type ChildProcess } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { ShareSheet, UploadAnswer } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { freePort } from './_fixtures/free-port.js';
import { officeForServers, startServer } from './_fixtures/killing.js';
import { Client, PASSWORDS } from './_fixtures/office.js';

// One server of two processes, as an installed one with `processes: 2`, under a service manager that is a socket:
// socat (Debian) takes what systemd-notify (Debian's systemd) says to it.
const folder = mkdtempSync(join(tmpdir(), 'quay-processes-'));
const heard = join(folder, 'heard');
let server: ChildProcess;
let manager: ChildProcess;
let office: Awaited<ReturnType<typeof officeForServers>>;
let metricsPort: number;
let iris: Client;
beforeAll(async () => {
  const socket = join(folder, 'notify');
  manager = spawn('socat', ['-u', `UNIX-RECV:${socket}`, `OPEN:${heard},creat,append`]);
  await vi.waitFor(() => expect(existsSync(socket)).toBe(true), 60_000);
  office = await officeForServers(folder);
  metricsPort = await freePort();
  server = await startServer({
    ...office.env,
    QUAY_PROCESSES: '2',
    QUAY_METRICS_PORT: String(metricsPort),
    NOTIFY_SOCKET: socket,
    WATCHDOG_USEC: '1500000',
  });
  iris = new Client(`http://127.0.0.1:${office.port}`);
});
afterAll(async () => {
  const ended = new Promise((resolve) => server.once('exit', resolve));
  server.kill('SIGTERM');
  await ended;
  manager.kill();
  rmSync(folder, { recursive: true, force: true });
});

/** The processes that serve, as the system lists them (proc(5)). */
const serving = () =>
  readFileSync(`/proc/${server.pid}/task/${server.pid}/children`, 'utf8')
    .split(' ')
    .filter(Boolean)
    // What tells the service manager is one, too, for a moment.
    .filter((pid) => existsSync(`/proc/${pid}`) && readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('main.js'))
    .map(Number);
/** Each by a connection of its own, so that both processes have their turn. */
const apart = { connection: 'close' };

describe('two server processes', () => {
  it('serve one office: what is done at one is there at the other', async () => {
    expect(serving()).toHaveLength(2);
    const signIn = { signInName: 'iris', password: PASSWORDS.iris };
    expect((await iris.ask('POST', '/api/session', signIn, apart)).status).toBe(204);
    const files = new Map<string, string>();
    for (let n = 0; n < 12; n += 1) {
      const bytes = randomBytes(2000);
      const answer = await iris.fetch(`/api/folders/${office.roots.projects}/files?name=f${n}.bin`, {
        method: 'PUT',
        body: new Uint8Array(bytes),
        headers: { 'content-type': 'application/octet-stream', ...apart },
      });
      files.set(((await answer.json()) as UploadAnswer).id, createHash('sha256').update(bytes).digest('hex'));
    }
    const asked = {
      ...{ title: 'Both', message: '', nodeIds: [...files.keys()], password: null, visitLimit: 3 },
      window: { opensAt: null, closesAt: null },
    };
    const share = await iris.ask<ShareSheet>('POST', '/api/shares', asked, apart);
    const path = new URL(share.body.link).pathname;
    const opened = await Promise.all(
      Array.from({ length: 10 }, () => new Client(iris.origin).ask('POST', `${path}/open`, {}, apart)),
    );
    expect(opened.filter((o) => o.status === 200)).toHaveLength(3);
    for (const [id, sha256] of files) {
      const got = await iris.fetch(`/api/files/${id}/content`, { headers: apart });
      expect(
        createHash('sha256')
          .update(Buffer.from(await got.arrayBuffer()))
          .digest('hex'),
      ).toBe(sha256);
    }
  });
  it('count together', async () => {
    const count = async () => {
      const text = await (await fetch(`http://127.0.0.1:${metricsPort}/metrics`, { headers: apart })).text();
      return Number(/^quay_requests_total\{area="page",method="GET",status="200"\} (\d+)$/m.exec(text)?.[1] ?? 0);
    };
    const before = await count();
    for (let n = 0; n < 10; n += 1) await (await iris.fetch('/healthz', { headers: apart })).text();
    // The last may not be over yet when it is asked.
    await expect.poll(count).toBe(before + 10);
  });
  it('tell the service manager that they are ready, and go on telling that they live', async () => {
    const told = () => (existsSync(heard) ? readFileSync(heard, 'utf8') : '');
    await expect.poll(told, { timeout: 60_000 }).toContain('READY=1');
    await expect.poll(told, { timeout: 60_000 }).toContain('WATCHDOG=1');
  });
  it('are two again when one is killed, and nobody is signed out', async () => {
    const [one] = serving() as [number];
    process.kill(one, 'SIGKILL');
    await expect.poll(() => serving().includes(one)).toBe(false);
    for (let n = 0; n < 6; n += 1) expect((await iris.ask('GET', '/api/session', undefined, apart)).status).toBe(200);
    await expect.poll(() => serving().length, { timeout: 60_000 }).toBe(2);
  });
});
