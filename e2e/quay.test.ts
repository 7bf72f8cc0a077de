import { execFile, execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { randomInt } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, describe, expect, it, vi } from 'vitest';

const root = resolve(import.meta.dirname, '..');
const { answers } = (await import(join(root, 'scripts/lib/postgres.mjs'))) as {
  answers: (port: number) => Promise<boolean>;
};
const office = mkdtempSync(join(tmpdir(), 'quay-var-'));
afterAll(() => rmSync(office, { recursive: true, force: true }));

const quay = (...args: string[]) => quayIn(office, ...args);
const quayIn = (folder: string, ...args: string[]) =>
  promisify(execFile)(join(root, 'quay'), args, { env: { ...process.env, QUAY_VAR: folder } }).then(
    ({ stdout, stderr }) => ({ code: 0, stdout, stderr }),
    (error: { code: number; stdout: string; stderr: string }) => error,
  );

/** Where no other test looks for a port (freePort), and Linux gives none on by itself (ip(7), ip_local_port_range). */
const [LOWEST, HIGHEST] = [61_100, 64_800];

/** Ten free ports in a row: the command lays out up to seven. */
async function freeBase(): Promise<number> {
  for (;;) {
    const base = randomInt(LOWEST / 10, HIGHEST / 10) * 10;
    if ((await answering(base)).length === 0) return base;
  }
}

/** Which of the ports of a base anything answers at. */
async function answering(base: number): Promise<number[]> {
  const ports = Array.from({ length: 10 }, (_, n) => base + n);
  const found = await Promise.all(ports.map(answers));
  return ports.filter((_, n) => found[n]);
}

/** Resolves once the program says these words. */
function says(child: ChildProcess, words: string): Promise<void> {
  return new Promise((done, failed) => {
    child.stdout?.on('data', (piece: Buffer) => piece.toString().includes(words) && done());
    child.once('exit', (code) => failed(new Error(`it ended with ${code}`)));
  });
}

async function started(port: number, command: 'start' | 'dev' = 'start', folder = office): Promise<ChildProcess> {
  const child = spawn(join(root, 'quay'), [command, '--port', String(port)], {
    env: { ...process.env, QUAY_VAR: folder },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  await says(child, command === 'dev' ? 'Ctrl C ends everything' : 'serves at');
  return child;
}

/** Waits until nothing that was started there answers any more. */
const silent = (base: number): Promise<void> =>
  vi.waitFor(async () => expect(await answering(base)).toEqual([]), { timeout: 30_000, interval: 100 });

describe('./quay', () => {
  it('lists its commands, and says so when there is no such one', async () => {
    expect((await quay('help')).stdout).toMatch(/demo[\s\S]+test[\s\S]+bench/);
    expect(await quay('dance')).toMatchObject({
      code: 1,
      stderr: 'quay: there is no command "dance". ./quay help lists them.\n',
    });
    expect(await quay('start', '--port', 'x')).toMatchObject({
      code: 1,
      stderr: 'quay: --port takes a number from 1024 to 65000.\n',
    });
  });
  it('tests a part, or a file of it; nothing that was run is no success', async () => {
    const some = await quay('test', 'unit', 'packages/core/src/link/link.test.ts');
    expect([some.code, some.stdout.trim().split('\n').at(-1)]).toEqual([
      0,
      expect.stringMatching(/^[1-9]\d* passed, 0 failed$/),
    ]);
    const none = await quay('test', 'unit', 'packages/core/src/no-such.test.ts');
    expect([none.code, none.stdout.trim().split('\n').at(-1)]).toEqual([1, '0 passed, 0 failed']);
  });
  it('a port in use is one clear line with the remedy, and leaves nothing running', async () => {
    const base = await freeBase();
    const taken: Server = createServer().listen(base, '127.0.0.1');
    await new Promise((r) => taken.once('listening', r));
    const { code, stderr } = await quay('start', '--port', String(base));
    expect([code, stderr.split('\n').at(-2)]).toEqual([
      1,
      `quay: port ${base} is in use, so the web server cannot start there. End what uses it, or choose other ports, as with --port 5180.`,
    ]);
    await new Promise((r) => taken.close(r));
    await silent(base);
  });
  it.each([
    ['SIGINT', 'Ctrl C'],
    ['SIGKILL', 'a kill of the parent'],
  ] as const)('%s (%s) ends everything it started, and a next start finds its data', async (signal, _words) => {
    const base = await freeBase();
    const child = await started(base);
    expect((await fetch(`http://127.0.0.1:${base}/begin`)).status).toBe(200);
    expect((await fetch(`http://127.0.0.1:${base}/api/session`)).status).toBe(503);
    // No part of the outside world.
    expect(await answers(base + 3)).toBe(false);
    child.kill(signal);
    await silent(base);
  });
  it('start, a code, six steps, and curl opens the first share', async () => {
    const base = await freeBase();
    const folder = join(office, 'first');
    const child = await started(base, 'start', folder);
    const [origin, jar] = [`http://127.0.0.1:${base}`, join(folder, 'cookies')];
    const curl = (...args: string[]) => execFileSync('curl', ['-sSf', '-b', jar, '-c', jar, ...args]).toString();
    const json = (method: string, path: string, body: object) =>
      curl('-X', method, '-H', 'content-type: application/json', '-d', JSON.stringify(body), `${origin}/api/${path}`);
    json('POST', 'setup/code', { code: readFileSync(join(folder, 'first-start-code'), 'utf8').trim() });
    const bytes = join(folder, 'elsewhere');
    json('PUT', 'setup/office', { name: 'Saltmarsh Survey', zone: 'Europe/London' });
    const [signInName, password] = ['iris', 'weir-lantern-copper-tide'];
    json('PUT', 'setup/you', { name: 'Iris Ward', signInName, password, email: 'iris@saltmarsh.example' });
    json('PUT', 'setup/place', { folder: bytes });
    json('PUT', 'setup/stores', { names: ['Projects'], homes: false });
    json('PUT', 'setup/mail', { later: true });
    json('PUT', 'setup/way-in', { kind: 'inside', inside: origin });
    expect(JSON.parse(json('POST', 'setup/finish', {}))).toEqual({ restarts: true });
    // The server has begun anew, and knows where bytes lie.
    await vi.waitFor(() => curl(`${origin}/api/session`), 20_000);
    const [{ rootId }] = JSON.parse(curl(`${origin}/api/stores`)) as [{ rootId: string }];
    const { id } = JSON.parse(
      curl('-T', join(root, 'README.md'), `${origin}/api/folders/${rootId}/files?name=README.md`),
    ) as { id: string };
    const share = { title: 'First', nodeIds: [id], password: null, visitLimit: null };
    const { link } = JSON.parse(json('POST', 'shares', { ...share, window: { opensAt: null, closesAt: null } })) as {
      link: string;
    };
    expect(link.startsWith(`${origin}/s/`)).toBe(true);
    const visitor = join(folder, 'visitor');
    const open = ['-sSf', '-c', visitor, '-H', 'content-type: application/json', '-d', '{"password":null}'];
    execFileSync('curl', [...open, `${link}/open`]);
    const got = execFileSync('curl', ['-sSf', '-b', visitor, `${link}/files/${id}`]);
    expect(got.equals(readFileSync(join(root, 'README.md')))).toBe(true);
    expect(execFileSync('find', [bytes, '-type', 'f']).toString().trim().split('\n')).toHaveLength(1);
    child.kill('SIGINT');
    await silent(base);
    // It goes on where bytes lie now.
    expect((await quayIn(folder, 'check', '--port', String(base))).stdout).toContain('everything holds');
  });
  it('setup makes an office of a file, once; admin gives out a link; neither does anything by itself', async () => {
    const folder = join(office, 'filed');
    const file = join(office, 'answers.yaml');
    const base = await freeBase();
    const answers = (zone: string) => `
office: { name: Saltmarsh Survey, zone: ${zone} }
you: { name: Iris Ward, signInName: iris, email: iris@saltmarsh.example, password: weir-lantern-copper-tide }
place: { folder: ${join(folder, 'bytes')} }
stores: { names: [Projects], homes: false }
mail: { later: true }
wayIn: { kind: inside, inside: "http://127.0.0.1:${base}" }
`;
    const asked = (...args: string[]) => quayIn(folder, ...args, '--port', String(base));
    writeFileSync(file, answers('Europe/Londn'));
    const refused = await asked('setup', '--answers', file);
    expect([refused.code, refused.stderr]).toEqual([1, expect.stringContaining('line 2: office.zone: ')]);
    writeFileSync(file, answers('Europe/London'));
    expect((await asked('setup', '--answers', file)).stdout).toContain('Saltmarsh Survey has begun');
    expect((await asked('setup', '--answers', file)).stdout).toContain('Nothing was changed.');
    expect((await asked('admin', 'list')).stdout).toMatch(/^iris +admin +Iris Ward, 0 sessions$/m);
    const { stdout } = await asked('admin', 'link', 'iris');
    expect(stdout).toContain(`http://127.0.0.1:${base}/password/`);
    expect((await asked('admin', 'link', 'nobody')).stderr).toContain('Nobody signs in as nobody.');
    // What waits to be done by itself still waits: for a server.
    expect((await asked('check')).stdout).toContain('everything holds');
    await silent(base);
  });
  it('dev shows the web application as it is written, and starts the server anew when a source of it changes', async () => {
    // Without the demo, which takes a minute to load.
    writeFileSync(join(office, 'demo-loaded'), '');
    const base = await freeBase();
    const child = await started(base, 'dev');
    const web = `http://127.0.0.1:${base + 6}`;
    await vi.waitFor(async () => expect(await (await fetch(web)).text()).toContain('/@vite/client'), 20_000);
    expect((await fetch(`${web}/api/session`)).status).toBe(503);
    const anew = says(child, 'The server has started anew');
    const now = new Date();
    utimesSync(join(root, 'apps/server/src/main.ts'), now, now);
    await anew;
    expect((await fetch(`${web}/api/session`)).status).toBe(503);
    child.kill('SIGINT');
    await silent(base);
  });
});
