import { spawn } from 'node:child_process';
import { createHmac } from 'node:crypto';
import { connect, createServer, type AddressInfo, type Socket } from 'node:net';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { serverName } from './codec.js';
import { Relay } from './server.js';

/** The first bytes that OpenSSL's own client sends, caught as they come. */
function helloOfOpenssl(...args: string[]): Promise<Buffer> {
  return new Promise((resolve) => {
    const server = createServer((socket) =>
      socket.once('data', (bytes: Buffer) => {
        resolve(bytes);
        socket.destroy();
        server.close();
      }),
    );
    server.listen(0, '127.0.0.1', () =>
      spawn('openssl', ['s_client', '-connect', `127.0.0.1:${(server.address() as AddressInfo).port}`, ...args], {
        stdio: 'ignore',
      }),
    );
  });
}

describe('the name in a hello', () => {
  it('of OpenSSL s_client is found, with TLS 1.2 and 1.3, whole and byte by byte', async () => {
    for (const version of ['-tls1_2', '-tls1_3']) {
      const hello = await helloOfOpenssl('-servername', 'files.saltmarsh.example', version);
      expect(serverName(hello)).toEqual({ outcome: 'name', name: 'files.saltmarsh.example' });
      for (let n = 1; n < hello.length; n += 7) expect(serverName(hello.subarray(0, n)).outcome).toBe('more');
    }
  });
  it('is none where none was sent, or no TLS is spoken', async () => {
    expect(serverName(await helloOfOpenssl('-noservername')).outcome).toBe('none');
    expect(serverName(Buffer.from('GET / HTTP/1.1\r\n\r\n')).outcome).toBe('none');
  });
  it('garbage never throws', () => {
    fc.assert(
      fc.property(
        fc.uint8Array({ maxLength: 400 }),
        (bytes) => void serverName(Buffer.concat([Buffer.from([22, 3, 1]), Buffer.from(bytes)])),
      ),
    );
  });
});

describe('lines', () => {
  const key = Buffer.from('a key of this relay');
  let relay: Relay;
  let ports: { line: number; tls: number; plain: number };
  beforeAll(async () => {
    relay = new Relay(new Map([['files.saltmarsh.example', key]]), () => '203.0.113.7');
    ports = await relay.listen('127.0.0.1', { line: 0, tls: 0, plain: 0 });
  });
  afterAll(() => relay.close());

  const line = async (host: string, secret: Buffer): Promise<{ socket: Socket; next: () => Promise<string> }> => {
    const socket = connect(ports.line, '127.0.0.1');
    const heard: string[] = [];
    const waiting: ((text: string) => void)[] = [];
    socket.on('data', (bytes) =>
      String(bytes)
        .trim()
        .split('\n')
        .forEach((t) => (waiting.length ? waiting.shift()?.(t) : heard.push(t))),
    );
    socket.on('close', () => waiting.splice(0).forEach((w) => w('closed')));
    const next = () =>
      heard.length ? Promise.resolve(heard.shift() as string) : new Promise<string>((r) => waiting.push(r));
    const { challenge } = JSON.parse(await next()) as { challenge: string };
    socket.write(
      `${JSON.stringify({
        host,
        proof: createHmac('sha256', secret)
          .update(challenge + host)
          .digest('hex'),
      })}\n`,
    );
    return { socket, next };
  };

  it('are kept for those who prove it, and refused to others', async () => {
    expect(await (await line('files.saltmarsh.example', Buffer.from('another'))).next()).toContain('refused');
    expect(await (await line('other.example', key)).next()).toContain('refused');
    const kept = await line('files.saltmarsh.example', key);
    expect(await kept.next()).toBe('{"ok":true}');
    expect(relay.names).toEqual(['files.saltmarsh.example']);
    const hello = await helloOfOpenssl('-servername', 'files.saltmarsh.example');
    const visitor = connect(ports.tls, '127.0.0.1', () => visitor.write(hello));
    visitor.on('error', () => undefined);
    const { call, from } = JSON.parse(await kept.next()) as { call: string; from: string };
    expect(from).toBe('203.0.113.7');
    const forged = connect(ports.line, '127.0.0.1', () =>
      forged.write(`${JSON.stringify({ answer: call, proof: '00' })}\n`),
    );
    await new Promise((r) =>
      forged
        .resume()
        .on('error', () => undefined)
        .once('close', r),
    );
    const answer = connect(ports.line, '127.0.0.1', () =>
      answer.write(
        `${JSON.stringify({
          answer: call,
          proof: createHmac('sha256', key)
            .update(call.split(' ')[0] as string)
            .digest('hex'),
        })}\nback`,
      ),
    );
    const passed = await new Promise<Buffer>((resolve) =>
      answer.on('data', (b) => !String(b).startsWith('{"challenge') && resolve(b)),
    );
    expect(passed.equals(hello)).toBe(true);
    expect(String(await new Promise((r) => visitor.once('data', r)))).toBe('back');
    answer.destroy();
    kept.socket.destroy();
  });

  it('a visitor of a name without a line, or who speaks no TLS, is hung up on', async () => {
    for (const bytes of [
      await helloOfOpenssl('-servername', 'nobody.example'),
      Buffer.from('GET / HTTP/1.1\r\n\r\n'),
    ]) {
      const visitor = connect(ports.tls, '127.0.0.1', () => visitor.write(bytes));
      visitor.on('error', () => undefined);
      await new Promise((r) => visitor.once('close', r));
    }
  });
});
