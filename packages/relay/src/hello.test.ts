import { spawn } from 'node:child_process';
import { createServer, type AddressInfo } from 'node:net';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { clientHello } from './hello.js';

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

describe('a hello', () => {
  it('of OpenSSL s_client is found, with TLS 1.2 and 1.3, whole and byte by byte', async () => {
    for (const version of ['-tls1_2', '-tls1_3']) {
      const hello = await helloOfOpenssl('-servername', 'files.saltmarsh.example', '-alpn', 'h2,http/1.1', version);
      expect(clientHello(hello)).toEqual({
        outcome: 'hello',
        name: 'files.saltmarsh.example',
        protocols: ['h2', 'http/1.1'],
      });
      for (let n = 1; n < hello.length; n += 7) expect(clientHello(hello.subarray(0, n)).outcome).toBe('more');
    }
  });
  it('is none where none was sent, or no TLS is spoken', async () => {
    expect(clientHello(await helloOfOpenssl('-noservername'))).toEqual({ outcome: 'hello', name: null, protocols: [] });
    expect(clientHello(Buffer.from('GET / HTTP/1.1\r\n\r\n')).outcome).toBe('none');
  });
  it('garbage never throws', () => {
    fc.assert(
      fc.property(
        fc.uint8Array({ maxLength: 400 }),
        (bytes) => void clientHello(Buffer.concat([Buffer.from([22, 3, 1]), Buffer.from(bytes)])),
      ),
    );
  });
});
