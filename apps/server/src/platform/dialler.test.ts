import { createSocket, type Socket } from 'node:dgram';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer as createHttp } from 'node:http';
import { createServer as createHttps } from 'node:https';
import { networkInterfaces, tmpdir } from 'node:os';
import { join } from 'node:path';
import { createServer, type AddressInfo, type Server } from 'node:net';
import { afterEach, describe, expect, it } from 'vitest';
import { Dialler } from './dialler.js';

const open: (Socket | Server)[] = [];
afterEach(() => {
  for (const s of open.splice(0)) {
    s.close();
    if ('closeAllConnections' in s) (s as import('node:http').Server).closeAllConnections();
  }
});
const udp = async (answer: (bytes: Buffer, reply: (bytes: Buffer | string) => void) => void): Promise<number> => {
  const socket = createSocket('udp4');
  socket.on('message', (bytes, from) => answer(bytes, (b) => socket.send(b, from.port, from.address)));
  await new Promise<void>((done) => socket.bind(0, '127.0.0.1', done));
  open.push(socket);
  return socket.address().port;
};
const tcp = async <T extends Server>(server: T): Promise<number> => {
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  open.push(server);
  return (server.address() as AddressInfo).port;
};
const plain = new Dialler(null);
const word = (expected: string) => (b: Buffer) => (b.toString() === expected ? b.toString() : null);

describe('datagrams', () => {
  it('garbage, oversized and late answers are passed over for the one that is understood', async () => {
    const port = await udp((_, reply) => {
      reply('');
      reply(Buffer.alloc(9000, 7));
      setTimeout(() => reply('good'), 30);
    });
    expect(await plain.exchange('127.0.0.1', port, Buffer.from('?'), word('good'), [500])).toBe('good');
  });
  it('are sent again, and given up in time', async () => {
    let asked = 0;
    const port = await udp((_, reply) => (asked += 1) === 3 && reply('good'));
    expect(await plain.exchange('127.0.0.1', port, Buffer.from('?'), word('good'), [40, 40, 400])).toBe('good');
    expect(await plain.exchange('127.0.0.1', port, Buffer.from('?'), word('never'), [20, 20])).toBeNull();
  });
  it('an answer from elsewhere is none', async () => {
    const stranger = createSocket('udp4');
    await new Promise<void>((done) => stranger.bind(0, '127.0.0.1', done));
    open.push(stranger);
    const asked = createSocket('udp4');
    asked.on('message', (_, from) => stranger.send('good', from.port, from.address));
    await new Promise<void>((done) => asked.bind(0, '127.0.0.1', done));
    open.push(asked);
    expect(await plain.exchange('127.0.0.1', asked.address().port, Buffer.from('?'), word('good'), [150])).toBeNull();
  });
});

describe('a search', () => {
  const group = '239.255.255.250';
  const search = async (answers: string[], enough: (found: readonly string[]) => boolean, waitMs = 300) => {
    const asked = createSocket('udp4');
    let questions = 0;
    asked.on('message', (_, from) => {
      questions += 1;
      for (const answer of answers) {
        // Each from an address of its own, as machines of a group do.
        const machine = createSocket('udp4');
        machine.send(answer, from.port, from.address, () => machine.close());
      }
    });
    await new Promise<void>((done) => asked.bind(0, '127.0.0.1', done));
    open.push(asked);
    const at = { transport: 'udp' as const, address: group, port: 1900, host: '127.0.0.1', offset: 0 };
    const wired = new Dialler({ localAddress: '127.0.0.1', routes: [{ ...at, toPort: asked.address().port }] });
    const read = (b: Buffer) => (b.toString().startsWith('good') ? b.toString() : null);
    const found = await wired.search(group, 1900, Buffer.from('?'), read, { from: '127.0.0.1', waitMs, enough });
    // Whatever was still to be sent would throw now.
    await new Promise((done) => setTimeout(done, waitMs));
    return { found, questions };
  };
  it('takes what machines of a group answer, each from an address of its own, and asks twice', async () => {
    const { found, questions } = await search(['good one', 'bad', 'good two'], () => false);
    expect([...new Set(found)].sort()).toEqual(['good one', 'good two']);
    expect(questions).toBe(2);
  });
  it('ends with what will do, and sends nothing after it', async () => {
    const { found, questions } = await search(['good one'], (some) => some.includes('good one'));
    expect([found, questions]).toEqual([['good one'], 1]);
  });
  it('finds nothing where nobody answers, or nothing leads there', async () => {
    expect((await search([], () => false)).found).toEqual([]);
    const wait = { from: '192.0.2.1', waitMs: 50, enough: () => false };
    expect(await plain.search(group, 1900, Buffer.from('?'), word('good'), wait)).toEqual([]);
  });
});

describe('requests', () => {
  const get = (port: number, timeoutMs = 300, most = 1000) =>
    plain.http('GET', `http://127.0.0.1:${port}/`, {}, null, timeoutMs, most);
  it('are answered, and end where the other side is too slow, too long, broken or not there', async () => {
    expect(await get(await tcp(createHttp((_, res) => res.end('well'))))).toMatchObject({ status: 200, text: 'well' });
    await expect(get(await tcp(createHttp(() => undefined)))).rejects.toThrow(/did not answer within/);
    await expect(get(await tcp(createHttp((_, res) => res.end('x'.repeat(5000)))))).rejects.toThrow('sends more');
    await expect(get(await tcp(createServer((s) => s.end('no HTTP'))))).rejects.toThrow();
    await expect(get(1)).rejects.toThrow(/ECONNREFUSED/);
    await expect(plain.http('GET', 'ftp://127.0.0.1/', {}, null, 100)).rejects.toThrow(/neither http nor https/);
  });
  const hasSix = Object.values(networkInterfaces()).some((on) => on?.some(({ address }) => address === '::1'));
  it.skipIf(!hasSix)('go to an address of IPv6 too, which a URL writes in brackets (RFC 3986 §3.2.2)', async () => {
    const server = createHttp((req, res) => res.end(req.headers.host));
    await new Promise<void>((done) => server.listen(0, '::1', done));
    const { port } = server.address() as { port: number };
    const answer = await plain.http('GET', `http://[::1]:${port}/`, {}, null, 1000);
    expect(answer.text).toBe(`[::1]:${port}`);
    server.close();
  });
  it('over HTTPS want a certificate that holds', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'dialler-'));
    execFileSync(
      'openssl',
      [
        'req',
        '-x509',
        '-newkey',
        'ec',
        '-pkeyopt',
        'ec_paramgen_curve:prime256v1',
        '-nodes',
        '-keyout',
        'key',
        '-out',
        'cert',
        '-subj',
        '/O=Probe',
        '-addext',
        'subjectAltName=IP:127.0.0.1',
        '-days',
        '2',
      ],
      { cwd: folder, stdio: 'ignore' },
    );
    const cert = readFileSync(join(folder, 'cert'), 'utf8');
    const port = await tcp(
      createHttps({ cert, key: readFileSync(join(folder, 'key')) }, (_, res) => res.end('well')) as unknown as Server,
    );
    await expect(plain.http('GET', `https://127.0.0.1:${port}/`, {}, null, 2000)).rejects.toThrow(/self.signed/i);
    expect((await new Dialler(null, [cert]).http('GET', `https://127.0.0.1:${port}/`, {}, null, 2000)).text).toBe(
      'well',
    );
    rmSync(folder, { recursive: true });
  });
});

describe('a wiring table', () => {
  const wired = new Dialler({
    localAddress: '127.0.20.10',
    routes: [
      { transport: 'tcp', address: '198.51.100.24', port: null, host: '127.0.0.1', toPort: null, offset: 20_000 },
      { transport: 'udp', address: '192.168.20.1', port: 53, host: '127.0.0.1', toPort: 5300, offset: 0 },
    ],
  });
  it('leads addresses of the simulated world to their places, and those it does not hold nowhere', () => {
    expect(wired.place('tcp', '198.51.100.24', 443)).toEqual({
      host: '127.0.0.1',
      port: 20_443,
      localAddress: '127.0.20.10',
    });
    expect(wired.place('udp', '192.168.20.1', 53)).toMatchObject({ port: 5300 });
    expect([wired.place('tcp', '192.168.20.1', 53), wired.place('tcp', '203.0.113.9', 80)]).toEqual([null, null]);
    expect(wired.way(['192.168.20.1']).resolvers).toEqual(['127.0.0.1:5300']);
    expect(plain.place('tcp', '198.51.100.24', 443)).toEqual({ host: '198.51.100.24', port: 443 });
  });
});
