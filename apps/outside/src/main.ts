import { randomBytes } from 'node:crypto';
import type { AddressInfo } from 'node:net';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { listPage, mailPage } from './mail/page.js';
import { mailServer } from './mail/server.js';
import { Mailbox } from './mail/state.js';
import { scannerServer } from './scanner/server.js';
import { sitePage } from './site/page.js';
import { textsPage } from './texts/page.js';
import { TextBox } from './texts/state.js';
import { measure, readAsk } from '@quay/probe';
import { PUBLIC_ADDRESS, VANTAGES, ZONE } from './wiring.js';
import { wayFrom, World } from './world.js';
import { probesPage, worldPage } from './world-page.js';

const HOST = '127.0.0.1';
const number = (name: string, otherwise: number): number => Number(process.env[name] ?? otherwise);
const webPort = number('OUTSIDE_WEB_PORT', 4183);
const mailbox = new Mailbox();
/** The key is on the page: this gateway delivers nothing. */
const TEXTS_KEY = 'quay-demo';
const texts = new TextBox(TEXTS_KEY);
let snippet = '';

function fail(error: Error): void {
  process.send?.({ failed: error.message });
  process.exit(1);
}

// The mapping protocols and STUN take any free port here: several demos may run on one machine. The page tells them.
const world = await World.open(
  {
    gateway: process.env['OUTSIDE_GATEWAY'] ?? HOST,
    publicSide: process.env['OUTSIDE_PUBLIC'] ?? HOST,
    publicOffset: number('OUTSIDE_PUBLIC_OFFSET', 20_000),
    publicAddress: PUBLIC_ADDRESS,
    serverTls: number('OUTSIDE_SERVER_TLS_PORT', 4184),
    serverPlain: number('OUTSIDE_SERVER_PLAIN_PORT', 4185),
    names: number('OUTSIDE_NAMES_PORT', 0),
    officeNames: 0,
    guestNames: 0,
    stun: number('OUTSIDE_STUN_PORT', 0),
    authority: number('OUTSIDE_AUTHORITY_PORT', 0),
    pmp: number('OUTSIDE_PMP_PORT', 0),
    upnp: number('OUTSIDE_UPNP_PORT', 0),
    ssdp: 0,
    directory: 0,
    identity: 0,
    relay: { line: 0, tls: 0, plain: 0 },
    probes: { outside: 0, guest: 0, tunnel: 0 },
  },
  {
    updateKey: process.env['OUTSIDE_UPDATE_KEY']
      ? Buffer.from(process.env['OUTSIDE_UPDATE_KEY'], 'hex')
      : randomBytes(32),
    probeToken: process.env['OUTSIDE_PROBE_TOKEN'] ?? randomBytes(16).toString('hex'),
    relayKey: process.env['OUTSIDE_RELAY_KEY'] ? Buffer.from(process.env['OUTSIDE_RELAY_KEY'], 'hex') : randomBytes(32),
    ...(process.env['OUTSIDE_DIRECTORY_CROWD'] && {
      crowd: { people: number('OUTSIDE_DIRECTORY_CROWD', 0), span: number('OUTSIDE_DIRECTORY_SPAN', 1500) },
    }),
    clockAheadMs: process.env['OUTSIDE_CLOCK_AT'] ? Date.parse(process.env['OUTSIDE_CLOCK_AT']) - Date.now() : 0,
  },
).catch((error: Error) => {
  fail(error);
  throw error;
});

async function answer(req: IncomingMessage, res: ServerResponse): Promise<void> {
  const path = (req.url ?? '/').split('?')[0] ?? '/';
  const send = (status: number, type: string, body: string) =>
    res
      .writeHead(status, {
        'Content-Type': type,
        'Content-Security-Policy': "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'",
        'X-Content-Type-Options': 'nosniff',
      })
      .end(body);
  const html = 'text/html; charset=utf-8';
  const single = /^\/mail\/(\d+)$/.exec(path);
  const mail = single ? mailbox.get(Number(single[1])) : null;
  if (req.method === 'POST' && path === '/faults') return setFaults(req, res);
  if (req.method === 'POST' && path === '/texts') {
    const said = texts.take(new URLSearchParams(await bodyOf(req)), new Date());
    return void send(said.status, 'application/json', said.body);
  }
  if (path === '/site') return answerSite(req, res);
  if (path === '/') send(200, html, worldPage(world, mailbox.list().length, texts.list().length));
  else if (path === '/api/world') send(200, 'application/json', JSON.stringify(world.state()));
  else if (path === '/api/wiring') send(200, 'application/json', JSON.stringify(world.wiring('office')));
  else if (path === '/api/root.pem') send(200, 'application/pem-certificate-chain', world.authority.rootPem);
  else if (path === '/api/directory.pem') send(200, 'application/pem-certificate-chain', world.directory.certificate);
  else if (path === '/api/invitation') send(200, 'text/plain; charset=utf-8', world.invitation);
  else if (path === '/probes') send(200, html, await askProbe(new URL(req.url ?? '/', 'http://here').searchParams));
  else if (path === '/texts') send(200, html, textsPage(texts.list()));
  else if (path === '/api/texts') send(200, 'application/json', JSON.stringify(texts.list()));
  else if (path === '/api/scanner')
    send(200, 'text/plain; charset=utf-8', `${HOST}:${(scanner.address() as AddressInfo).port}`);
  else if (path === '/mail') send(200, html, listPage(mailbox.list()));
  else if (path === '/api/mail') send(200, 'application/json', JSON.stringify(mailbox.list()));
  else if (mail) send(200, html, mailPage(mail));
  else send(404, 'text/plain', 'There is nothing here.');
}

async function askProbe(query: URLSearchParams): Promise<string> {
  const url = query.get('url') ?? `https://files.${ZONE}`;
  const from = VANTAGES.find((v) => v === query.get('from')) ?? 'outside';
  const ask = query.has('url')
    ? readAsk(JSON.stringify({ url, path: '/reach/probe', roots: [world.authority.rootPem] }))
    : null;
  const found = ask && (await measure(ask, wayFrom(from, world.places)));
  return probesPage(from, url, query.has('url') ? (found?.exchange ?? ['That is no address.']) : null);
}

/** A page of the office's own, which shows what is put into it; only it itself may put something in. */
async function answerSite(req: IncomingMessage, res: ServerResponse): Promise<void> {
  if (req.method === 'POST') {
    if (isForeign(req)) return void res.writeHead(403).end('This came from another page.');
    snippet = new URLSearchParams(await bodyOf(req)).get('snippet') ?? '';
    return void res.writeHead(303, { Location: '/site' }).end();
  }
  const shown = sitePage(snippet, { name: `https://files.${ZONE}`, at: process.env['OUTSIDE_OFFICE_AT'] ?? null });
  // What is put in comes from whoever sits here, and is theirs to run.
  const policy =
    "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; frame-src *; form-action 'self'";
  res.writeHead(200, { 'Content-Type': 'text/html; charset=utf-8', 'Content-Security-Policy': policy }).end(shown);
}

const isForeign = ({ headers: { origin, host } }: IncomingMessage): boolean =>
  origin !== undefined && new URL(origin).host !== host;

async function bodyOf(req: IncomingMessage): Promise<string> {
  let body = '';
  for await (const piece of req) if ((body += String(piece)).length > 5000) throw new Error('That is too much.');
  return body;
}

/** The form of the page: what is ticked is on. Only the page itself may send it. */
async function setFaults(req: IncomingMessage, res: ServerResponse): Promise<void> {
  if (isForeign(req)) return void res.writeHead(403).end('This came from another page.');
  const body = await bodyOf(req);
  try {
    world.setFaults(
      Object.fromEntries(
        [...new URLSearchParams(body)].map(([name, value]) => [name, value === 'on' ? true : Number(value)]),
      ),
    );
    res.writeHead(303, { Location: '/' }).end();
  } catch (error) {
    res.writeHead(400, { 'Content-Type': 'text/plain' }).end((error as Error).message);
  }
}

const web = createServer((req, res) => void answer(req, res).catch(() => res.destroy()));
const smtp = mailServer(mailbox);
smtp.on('error', () => undefined);
web.once('error', fail);
smtp.server.once('error', fail);
const scanner = scannerServer();
scanner.once('error', fail);
smtp.listen(number('OUTSIDE_SMTP_PORT', 4182), HOST, () => {
  scanner.listen(number('OUTSIDE_SCANNER_PORT', 0), HOST, () => {
    web.listen(webPort, HOST, () => process.send?.({ ready: true }));
  });
});
process.on('disconnect', () => process.exit(0));
process.on('SIGTERM', () => process.exit(0));
