import { createServer, type IncomingHttpHeaders } from 'node:http';
import type { AddressInfo } from 'node:net';

export interface AskedOfGateway {
  method: string;
  url: string;
  headers: IncomingHttpHeaders;
  body: string;
}

export interface Gateway {
  url: string;
  asked: AskedOfGateway[];
  /** What it answers from here on. */
  says: { status: number; body: string; headers?: Record<string, string> };
  close: () => Promise<void>;
}

/** A gateway for text messages, over HTTP on this machine: keeps what it is asked, and answers as it is told to. */
export async function openGateway(): Promise<Gateway> {
  const asked: AskedOfGateway[] = [];
  const server = createServer((req, res) => {
    const pieces: Buffer[] = [];
    req.on('data', (piece: Buffer) => pieces.push(piece));
    req.on('end', () => {
      const { method = '', url = '', headers } = req;
      asked.push({ method, url, headers, body: Buffer.concat(pieces).toString() });
      const { status, body, headers: more = {} } = gateway.says;
      res.writeHead(status, more).end(body);
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const gateway: Gateway = {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/send`,
    asked,
    says: { status: 202, body: '{"result":"taken"}' },
    close: () => new Promise((resolve) => server.close(() => resolve())),
  };
  return gateway;
}
