// The outside world and what the server is told of it: addresses of a simulated office network, and where they are here.
import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { startProgram } from './children.mjs';
import { ROOT } from './install.mjs';

/** Keys that the product and the simulated services share, made once. */
export function outsideKeys(folder) {
  const file = join(folder, 'outside-keys.json');
  if (!existsSync(file))
    writeFileSync(
      file,
      JSON.stringify({
        update: randomBytes(32).toString('hex'),
        probe: randomBytes(16).toString('hex'),
        relay: randomBytes(32).toString('hex'),
      }),
      { mode: 0o600 },
    );
  return JSON.parse(readFileSync(file, 'utf8'));
}

/** What the loader of the demo is told: the address that outsiders come in by, and the key of the name servers. */
export function demoReach(folder) {
  return {
    QUAY_DEMO_REACH: 'https://files.saltmarsh.example',
    QUAY_DEMO_UPDATE_SECRET: Buffer.from(outsideKeys(folder).update, 'hex').toString('base64'),
  };
}

/** Starts the outside world and writes the file that tells the server how it stands in it. */
export async function startOutside(folder, ports, more = {}) {
  const keys = outsideKeys(folder);
  const program = await startProgram(
    join(ROOT, 'apps/outside/dist/main.js'),
    {
      OUTSIDE_SMTP_PORT: String(ports.smtp),
      OUTSIDE_WEB_PORT: String(ports.outside),
      OUTSIDE_SERVER_TLS_PORT: String(ports.tls),
      OUTSIDE_SERVER_PLAIN_PORT: String(ports.plain),
      OUTSIDE_PUBLIC_OFFSET: String(20_000 + (ports.web % 20_000)),
      OUTSIDE_UPDATE_KEY: keys.update,
      OUTSIDE_PROBE_TOKEN: keys.probe,
      OUTSIDE_RELAY_KEY: keys.relay,
      OUTSIDE_OFFICE_AT: `http://127.0.0.1:${ports.web}`,
      ...more,
    },
    'the outside world',
  );
  const ask = async (path) => (await fetch(`http://127.0.0.1:${ports.outside}${path}`)).text();
  const { resolvers, ...wiring } = JSON.parse(await ask('/api/wiring'));
  const { places } = JSON.parse(await ask('/api/world'));
  const probe = (address) => ({ url: `http://${address}:8099/`, token: keys.probe });
  const reach = {
    insideAddress: '192.168.20.10',
    insidePorts: { tls: 8443, plain: 8080 },
    tls: { host: '127.0.0.1', port: ports.tls },
    plain: { host: '127.0.0.1', port: ports.plain },
    gateway: '192.168.20.1',
    resolvers,
    stun: { address: '203.0.113.34', port: 3478 },
    acmeDirectory: `http://127.0.0.1:${places.authority}/directory`,
    roots: [await ask('/api/root.pem')],
    probes: { outside: probe('203.0.113.7'), guest: probe('192.168.40.77'), tunnel: probe('192.168.20.200') },
    relay: await ask('/api/invitation'),
    checkEveryMinutes: 10,
    wiring,
  };
  const file = join(folder, 'reach.json');
  writeFileSync(file, JSON.stringify(reach, null, 2), { mode: 0o600 });
  const env = { QUAY_REACH_FILE: process.env.QUAY_REACH_FILE ?? file, QUAY_SCANNER: await ask('/api/scanner') };
  return { ...program, env };
}

/**
 * Takes the demo's way in through its guide, by the API as an admin would: the router, the authority and their memory are
 * new with every start of the outside world.
 */
export async function setUpWayIn(origin, outside) {
  const signedIn = await fetch(`${origin}/api/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ signInName: 'iris', password: 'weir-lantern-copper-tide' }),
  });
  if (signedIn.status !== 204) return;
  const cookie = signedIn.headers.getSetCookie()[0].split(';')[0];
  const send = (method, path, body) =>
    fetch(`${origin}${path}`, {
      method,
      headers: { cookie, 'content-type': 'application/json' },
      body: body && JSON.stringify(body),
    });
  const ask = (method, path, body) => send(method, `/api/reach/addresses${path}`, body);
  await connectDirectory(send, outside);
  await connectProvider(send, origin, outside);
  await connectTexts(send, outside);
  const addresses = await (await ask('GET', '')).json();
  for (const address of addresses.filter((a) => a.wayIn === 'mapping')) {
    for (const step of ['record', 'mapping', 'certificate', 'redirect'])
      await ask('POST', `/${address.id}/guide`, { step, how: 'program' });
    // The certificate is got by a job.
    for (let tries = 0; tries < 60 && (await (await ask('GET', `/${address.id}`)).json()).order; tries += 1)
      await new Promise((resolve) => setTimeout(resolve, 500));
  }
  // What the day begins with: a router that sends nothing back in, so that one thing needs a hand.
  await fetch(`${outside}/faults`, {
    method: 'POST',
    body: new URLSearchParams({ 'router.noLoopback': 'on' }),
    redirect: 'manual',
  });
  await Promise.all(addresses.map((a) => ask('POST', `/${a.id}/check`)));
  await fetch(`${origin}/api/session`, { method: 'DELETE', headers: { cookie } });
}

/** The directory has another certificate with every start of the outside world; the rest stays as somebody left it. */
async function connectDirectory(send, outside) {
  const { settings } = await (await send('GET', '/api/directory')).json();
  const { DIRECTORY_SCHEMAS } = await import('@quay/core');
  await send('PUT', '/api/directory', {
    ...(settings ?? {
      servers: [{ host: '192.168.20.15', port: 636 }],
      encryption: 'ldaps',
      bindDn: 'CN=Quay,OU=Services,dc=saltmarsh,dc=example',
      base: 'dc=saltmarsh,dc=example',
      preset: 'domain',
      schema: DIRECTORY_SCHEMAS.domain,
      branches: [],
      awayDays: 3,
    }),
    roots: await (await fetch(`${outside}/api/directory.pem`)).text(),
    bindPassword: 'ferry-lamp-osier-71',
  });
}

/** The gateway for text messages takes what has its key, and delivers none. */
async function connectTexts(send, outside) {
  await send('PUT', '/api/settings/text-messages', {
    url: `${outside}/texts`,
    format: 'form',
    fields: [
      { name: 'key', value: '{secret}' },
      { name: 'recipient', value: '{to}' },
      { name: 'message', value: '{text}' },
    ],
    headers: [],
    secret: 'quay-demo',
  });
}

/** It answers at another port with every start. */
async function connectProvider(send, origin, outside) {
  const { settings } = await (await send('GET', '/api/settings/provider')).json();
  const { places } = await (await fetch(`${outside}/api/world`)).json();
  await send('PUT', '/api/settings/provider', {
    ...(settings ?? {
      name: 'Saltmarsh id',
      clientId: 'lockfast-quay',
      makesAccounts: false,
      domains: [],
      groupsClaim: '',
      groups: [],
    }),
    issuer: `http://127.0.0.1:${places.identity}`,
    clientSecret: 'osier-ferry-lamp-82',
    origin,
  });
}
