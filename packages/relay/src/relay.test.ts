import { execFileSync, spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer as createTls, type Server } from 'node:https';
import { connect, createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { SmallOffice } from './_fixtures/office.js';
import { readConfig } from './config.js';
import { invitationText, readInvitation } from './invitation.js';
import { Pace, Sources, sourceKey, Usage } from './limits.js';
import { Register } from './register.js';
import { Relay } from './relay.js';
import { metrics } from './status.js';

const HOST = 'files.saltmarsh.example';
const folder = mkdtempSync(join(tmpdir(), 'relay-'));
const big = randomBytes(3_000_000);
let office: Server;
let root: string;

beforeAll(async () => {
  root = join(folder, 'cert.pem');
  const key = join(folder, 'key.pem');
  const subject = ['-subj', '/O=Saltmarsh Survey', '-addext', `subjectAltName=DNS:${HOST},DNS:*.relay.example`];
  const made = ['-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-days', '30'];
  execFileSync('openssl', ['req', ...made, ...subject, '-keyout', key, '-out', root], { stdio: 'ignore' });
  office = createTls({ cert: readFileSync(root), key: readFileSync(key) }, (req, res) => {
    if (req.url === '/big') return void res.end(big);
    // One part now, and one when it is asked for again.
    if (req.url === '/slow') return void setTimeout(() => res.end('late'), 2500);
    res.end(`asked for ${req.headers.host}`);
  });
  await new Promise<void>((done) => office.listen(0, '127.0.0.1', done));
});
afterAll(() => {
  office.close();
  rmSync(folder, { recursive: true, force: true });
});

const served = () => (office.address() as AddressInfo).port;

/** What a program says, while the relay in this process goes on. */
function run(program: string, ...args: string[]): Promise<{ code: number | null; out: Buffer; err: string }> {
  const child = spawn(program, args, { stdio: ['ignore', 'pipe', 'pipe'] });
  const parts: Buffer[] = [];
  let err = '';
  child.stdout.on('data', (part: Buffer) => parts.push(part));
  child.stderr.on('data', (part: Buffer) => (err += part.toString()));
  return new Promise((done) => child.once('close', (code) => done({ code, out: Buffer.concat(parts), err })));
}

/** What somebody gets by curl (Debian's) through the relay's door. */
const visit = (port: number, path = '/', host = HOST) =>
  run(
    'curl',
    ...['-s', '--max-time', '15', '--cacert', root, '--resolve', `${host}:${port}:127.0.0.1`],
    `https://${host}:${port}${path}`,
  );

describe('a relay', () => {
  const secret = randomBytes(32);
  const register = new Register(null);
  const relay = new Relay({
    register,
    usage: new Usage(null, Date.now),
    limits: { visitors: 3, perSecond: 1000, monthBytes: null },
    sources: { connections: 5, perSecond: 1000, sources: 1000 },
    addresses: ['203.0.113.40'],
    seenAs: () => '203.0.113.7',
  });
  let ports: Awaited<ReturnType<Relay['listen']>>;
  let line: SmallOffice;
  beforeAll(async () => {
    register.add({ id: 'saltmarsh', names: [HOST], brings: true, limits: {} }, secret);
    register.add({ id: 'other', names: ['other.relay.example'], brings: true, limits: {} }, randomBytes(32));
    ports = await relay.listen('127.0.0.1', { line: 0, tls: 0, plain: 0 });
    line = SmallOffice.line(ports.line, 'saltmarsh', secret, [HOST], served());
    await line.hears('ok');
  });
  afterAll(async () => {
    line.close();
    await relay.close();
  });

  it('tells an office which names are its own, and where they must lead', async () => {
    expect(await line.hears('ok')).toEqual({
      ...{ ok: true, names: [HOST], serves: [HOST], refused: [], addresses: ['203.0.113.40'] },
    });
  });
  it('passes visitors on by name, with every byte, and says from where they come', async () => {
    expect(String((await visit(ports.tls)).out)).toBe(`asked for ${HOST}:${ports.tls}`);
    expect((await line.hears('call'))['from']).toBe('203.0.113.7');
    const { out } = await visit(ports.tls, '/big');
    expect(createHash('sha256').update(out).digest('hex')).toBe(createHash('sha256').update(big).digest('hex'));
    expect(relay.passed).toBeGreaterThan(big.length);
  });
  it.each([
    ['another secret', 'saltmarsh'],
    ['a name that no office has', 'nobody'],
  ])('keeps no line for %s', async (_, id) => {
    const refused = SmallOffice.line(ports.line, id, randomBytes(32), [HOST]);
    await refused.hears('closed');
    expect(refused.heard).toEqual([{ closed: true }]);
  });
  it('gives nobody a name that is another’s; one that is nobody’s belongs to whoever brought it', async () => {
    line.say({ names: [HOST, 'other.relay.example', 'new.saltmarsh.example', 'no name'] });
    await vi.waitFor(
      () =>
        expect(line.heard.filter((m) => 'ok' in m).at(-1)).toMatchObject({
          serves: [HOST, 'new.saltmarsh.example'],
          refused: ['other.relay.example', 'no name'],
        }),
      10_000,
    );
    expect(register.ownerOf('new.saltmarsh.example')?.id).toBe('saltmarsh');
    line.say({ names: [HOST] });
  });
  it('tells a browser in its own words that it knows no such name (RFC 6066 §3)', async () => {
    const at = `127.0.0.1:${ports.tls}`;
    expect((await run('openssl', 's_client', '-connect', at, '-servername', 'x.example')).err).toMatch(
      /unrecognized name/,
    );
  });
  it('sends whoever types no https on, for names that it knows', async () => {
    const ask = async (host: string) => {
      const shown = ['-s', '-o', '/dev/null', '-w', '%{http_code} %{redirect_url}', '-H', `host: ${host}`];
      return String((await run('curl', ...shown, `http://127.0.0.1:${ports.plain}/s/abc`)).out);
    };
    expect(await ask(HOST)).toBe(`301 https://${HOST}/s/abc`);
    expect(await ask('x.example')).toBe('404 ');
  });
  it('calls over another line when one is deaf, or ends', { timeout: 20_000 }, async () => {
    const deaf = SmallOffice.line(ports.line, 'saltmarsh', secret, [HOST], served());
    await deaf.hears('ok');
    deaf.deaf = true;
    const visited = visit(ports.tls);
    await deaf.hears('call');
    expect(String((await visited).out)).toContain('asked for');
    const again = visit(ports.tls);
    await vi.waitFor(() => expect(deaf.heard.filter((m) => 'call' in m).length).toBe(2), 10_000);
    deaf.close();
    expect(String((await again).out)).toContain('asked for');
  });
  it('lets in no more visitors of an office than it may have, and says no at once', { timeout: 20_000 }, async () => {
    const slow = [visit(ports.tls, '/slow'), visit(ports.tls, '/slow'), visit(ports.tls, '/slow')];
    await vi.waitFor(() => expect(relay.status().find((o) => o.id === 'saltmarsh')?.visitors).toBe(3), 5000);
    expect((await visit(ports.tls)).code).not.toBe(0);
    expect((await Promise.all(slow)).map(({ out }) => String(out))).toEqual(['late', 'late', 'late']);
    await vi.waitFor(
      () => expect(relay.status().find((o) => o.id === 'saltmarsh')).toMatchObject({ visitors: 0, refusedEver: 1 }),
      10_000,
    );
  });
  it('lets nobody take all connections from one source', async () => {
    const idle = Array.from({ length: 5 }, () => connect(ports.tls, '127.0.0.1').on('error', () => undefined));
    await Promise.all(idle.map((s) => new Promise((done) => s.once('connect', done))));
    await new Promise((done) => setTimeout(done, 50));
    expect((await visit(ports.tls)).code).not.toBe(0);
    for (const s of idle) s.destroy();
    await vi.waitFor(async () => expect((await visit(ports.tls)).code).toBe(0), 5000);
  });
  it('passes on nothing more for an office whose month is used up, or that is removed', async () => {
    const own = randomBytes(32);
    register.add(
      { id: 'small', names: ['small.relay.example'], brings: false, limits: { monthBytes: 1_000_000 } },
      own,
    );
    const small = SmallOffice.line(ports.line, 'small', own, ['small.relay.example'], served());
    await small.hears('ok');
    await visit(ports.tls, '/big', 'small.relay.example');
    await vi.waitFor(async () => expect((await visit(ports.tls, '/', 'small.relay.example')).code).not.toBe(0), 5000);
    register.remove('small');
    await small.hears('closed');
  });
  it('an answer that nobody called for, and garbage on either door, end at once', async () => {
    for (const [port, bytes] of [
      [ports.line, `${'0'.repeat(32)}\n`],
      [ports.line, 'GET / HTTP/1.1\r\nhost: x\r\n\r\n                   '],
      [ports.tls, 'GET / HTTP/1.1\r\n\r\n'],
    ] as const) {
      const socket = connect(port, '127.0.0.1', () => socket.write(bytes));
      socket.on('error', () => undefined);
      socket.resume();
      await new Promise((done) => socket.once('close', done));
    }
    expect(String((await visit(ports.tls)).out)).toContain('asked for');
  });
});

describe('the program', () => {
  const MAIN = resolve(import.meta.dirname, '../dist/main.js');
  const home = join(folder, 'relay');
  let running: ChildProcess;
  let said = '';
  const ports = { line: 0, tls: 0, plain: 0 };
  let status = 0;
  const command = (...args: string[]) =>
    spawnSync(process.execPath, [MAIN, ...args, '--folder', home], { encoding: 'utf8' });

  beforeAll(async () => {
    [ports.line, ports.tls, ports.plain, status] = (await Promise.all([
      freePort(),
      freePort(),
      freePort(),
      freePort(),
    ])) as [number, number, number, number];
    execFileSync('mkdir', ['-p', home]);
    writeFileSync(
      join(home, 'relay.json'),
      JSON.stringify({
        host: '127.0.0.1',
        domain: 'relay.example',
        listen: '127.0.0.1',
        ports,
        status: { port: status },
        leaveSeconds: 20,
      }),
    );
    running = spawn(process.execPath, [MAIN, 'serve', '--folder', home], { stdio: ['ignore', 'pipe', 'pipe'] });
    running.stdout?.on('data', (t) => (said += String(t)));
    running.stderr?.on('data', (t) => (said += String(t)));
    await vi.waitFor(() => expect(said).toContain('A relay:'), 20_000);
  }, 30_000);
  afterAll(() => void running.kill('SIGKILL'));

  it(
    'invites offices, with a name below its own, while it serves; its files are its own',
    { timeout: 30_000 },
    async () => {
      const { stdout, status: code } = command('invite', 'saltmarsh');
      expect(code).toBe(0);
      const invitation = readInvitation(stdout);
      expect(invitation).toMatchObject({ host: '127.0.0.1', port: ports.line, office: 'saltmarsh' });
      expect(command('offices').stdout).toBe('saltmarsh  saltmarsh.relay.example\n');
      expect(command('invite', 'saltmarsh').stderr).toContain('there is an office saltmarsh already');
      expect(statSync(join(home, 'offices.json')).mode & 0o777).toBe(0o600);
      const line = SmallOffice.line(
        ports.line,
        'saltmarsh',
        invitation?.secret as Buffer,
        ['saltmarsh.relay.example'],
        served(),
      );
      await line.hears('ok');
      expect(String((await visit(ports.tls, '/', 'saltmarsh.relay.example')).out)).toContain('asked for');
      line.close();
    },
  );
  it(
    'hands over to a new process on SIGHUP: who is there goes on, and who comes is let in',
    { timeout: 60_000 },
    async () => {
      const { secret } = readInvitation(command('invite', 'second').stdout) as { secret: Buffer };
      const name = 'second.relay.example';
      const old = SmallOffice.line(ports.line, 'second', secret, [name], served());
      await old.hears('ok');
      const slow = visit(ports.tls, '/slow', name);
      await old.hears('call');
      running.kill('SIGHUP');
      await old.hears('leaving');
      // The office keeps a new line at once, and visitors come all the while.
      const next = SmallOffice.line(ports.line, 'second', secret, [name], served());
      await next.hears('ok');
      for (let n = 0; n < 5; n += 1) expect(String((await visit(ports.tls, '/', name)).out)).toContain('asked for');
      expect(String((await slow).out)).toBe('late');
      old.close();
      next.close();
    },
  );
  it('tells how it stands, to people and to machines that watch (promtool)', async () => {
    const page = await (await fetch(`http://127.0.0.1:${status}/`)).text();
    expect(page).toContain('saltmarsh.relay.example');
    const figures = await (await fetch(`http://127.0.0.1:${status}/metrics`)).text();
    expect(figures).toMatch(/quay_relay_lines\{office="saltmarsh"\} \d/);
    // It reads the older form, in which counters are called by their whole name.
    const input = figures
      .replace('# EOF\n', '')
      .replace(/^# (HELP|TYPE) (\S+_(?:visits|refusals)) /gm, '# $1 $2_total ');
    const checked = spawnSync('promtool', ['check', 'metrics'], { input, encoding: 'utf8' });
    expect([checked.status, checked.stderr]).toEqual([0, '']);
  });
  it('ends on SIGTERM when its visitors are gone', { timeout: 30_000 }, async () => {
    const ended = new Promise((done) => running.once('exit', done));
    running.kill('SIGTERM');
    expect(await ended).toBe(0);
  });
  it.each([
    ['{"domain": "relay.example"}', /"host" is missing/],
    ['{"host": "h", "prots": {}}', /prots is not known/],
    ['{"host": "h", "ports": {"tls": "443"}}', /ports.tls is of another kind/],
    ['{"host": "h", "ports": {"ssl": 1}}', /ports.ssl is not known/],
    ['{"host": "h",}', /cannot be read/],
  ])('a file that says %s is told what is wrong', (text, words) => {
    const other = mkdtempSync(join(tmpdir(), 'relay-'));
    writeFileSync(join(other, 'relay.json'), text);
    expect(() => readConfig(other)).toThrow(words);
    rmSync(other, { recursive: true });
  });
});

describe('the unit', () => {
  const unit = resolve(import.meta.dirname, '../lockfast-quay-relay.service');
  it('is rated 2.0 or better by systemd-analyze', () => {
    const { stdout } = spawnSync('systemd-analyze', ['security', '--offline=true', unit], { encoding: 'utf8' });
    expect(Number(/Overall exposure level[^:]*: ([\d.]+)/.exec(stdout)?.[1])).toBeLessThanOrEqual(2);
  });
});

describe('parts', () => {
  const invitation = { host: 'relay.example', port: 7443, office: 'saltmarsh', secret: Buffer.alloc(32, 7) };
  it('an invitation is one word, and is not believed when a letter is another or missing', () => {
    const text = invitationText(invitation);
    expect(readInvitation(` ${text}\n`)).toEqual(invitation);
    fc.assert(
      fc.property(fc.nat(text.length - 1), fc.constantFrom('', 'A', 'z', '-'), (at, letter) => {
        const damaged = text.slice(0, at) + letter + text.slice(at + 1);
        return damaged === text || readInvitation(damaged) === null;
      }),
    );
  });
  it('so many in a second, and a few at once', () => {
    const pace = new Pace(10, 20, 0);
    expect(Array.from({ length: 25 }, () => pace.take(0)).filter(Boolean)).toHaveLength(20);
    expect([pace.take(50), pace.take(100), pace.isFull(1000), pace.isFull(3000)]).toEqual([false, true, false, true]);
  });
  it.each([
    ['198.51.100.24', '198.51.100.24'],
    ['::ffff:198.51.100.24', '198.51.100.24'],
    ['2001:db8:1:2:3:4:5:6', '2001:db8:1:2'],
    ['2001:db8::1', '2001:db8:0:0'],
    ['2001:db8:1::', '2001:db8:1:0'],
  ])('%s is the source %s (a /64, RFC 6177)', (address, key) => expect(sourceKey(address)).toBe(key));
  it('sources are forgotten when they have gone, and no more are remembered than may be', () => {
    const sources = new Sources({ connections: 2, perSecond: 1, sources: 2 });
    expect([
      sources.enter('a', 0),
      sources.enter('a', 0),
      sources.enter('a', 0),
      sources.enter('b', 0),
      sources.enter('c', 0),
    ]).toEqual([true, true, false, true, false]);
    sources.leave('b');
    expect(sources.enter('c', 10_000)).toBe(true);
  });
  it('names below the relay’s own are given out by whoever runs it, and brought by nobody', () => {
    const register = new Register(null, 'relay.example');
    register.add({ id: 'a', names: ['a.relay.example'], brings: true, limits: {} });
    const asked = ['a.relay.example', 'sign-in.relay.example', 'relay.example', 'files.saltmarsh.example'];
    expect(register.bring('a', asked)).toEqual(['sign-in.relay.example', 'relay.example']);
  });
  it('a file that is being written by hand loses no office', () => {
    const home = mkdtempSync(join(tmpdir(), 'relay-'));
    const register = new Register(home);
    register.add({ id: 'a', names: [HOST], brings: true, limits: {} });
    writeFileSync(join(home, 'offices.json'), '{"offices": [');
    expect(register.office('nobody')).toBeUndefined();
    expect(register.ownerOf(HOST)?.id).toBe('a');
    expect(() => new Register(home)).toThrow(/cannot be read/);
    rmSync(home, { recursive: true });
  });
  it('a month begins anew, and is kept over restarts', () => {
    let now = Date.UTC(2026, 10, 30, 23);
    const kept = mkdtempSync(join(tmpdir(), 'relay-'));
    const usage = new Usage(kept, () => now);
    usage.add('saltmarsh', 5);
    usage.keep();
    expect(new Usage(kept, () => now).of('saltmarsh')).toBe(5);
    now += 2 * 3_600_000;
    expect(usage.of('saltmarsh')).toBe(0);
    rmSync(kept, { recursive: true });
  });
  it('figures end as OpenMetrics wants it', () => expect(metrics([])).toMatch(/# EOF\n$/));
});

function freePort(): Promise<number> {
  return new Promise((done) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as AddressInfo;
      server.close(() => done(port));
    });
  });
}
