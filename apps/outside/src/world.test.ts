import { request } from 'node:http';
import { Resolver } from 'node:dns/promises';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { PUBLIC_ADDRESS, ZONE } from './wiring.js';
import { World } from './world.js';
import { worldPage } from './world-page.js';

let server: Server;
let world: World;
beforeAll(async () => {
  server = createServer((req, res) => res.end(`the product, asked for ${req.headers.host}`)).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  world = await World.open(
    {
      gateway: '127.21.0.1',
      publicSide: '127.21.0.2',
      publicOffset: 21_000,
      publicAddress: PUBLIC_ADDRESS,
      serverTls: (server.address() as AddressInfo).port,
      serverPlain: 9,
      names: 0,
      officeNames: 0,
      guestNames: 0,
      stun: 0,
      authority: 0,
      pmp: 0,
      upnp: 0,
      ssdp: 0,
      directory: 0,
      identity: 0,
      relay: { line: 0, tls: 0, plain: 0 },
      probes: { outside: 0, guest: 0, tunnel: 0 },
    },
    { updateKey: Buffer.from('key'), probeToken: 'token-of-the-probes', relayKey: Buffer.alloc(32, 'relay') },
  );
});
afterAll(async () => {
  await world.close();
  server.close();
});

describe('the outside world as a whole', () => {
  it('a name leads to the public address, and through a mapping to the product', async () => {
    const resolver = new Resolver();
    resolver.setServers([`127.0.0.1:${world.places.names}`]);
    expect(await resolver.resolve4(`files.${ZONE}`)).toEqual(['198.51.100.24']);
    await world.router.mapByHand(443, '192.168.20.10', 8443);
    const body = await new Promise<string>((resolve, reject) => {
      request({ host: '127.21.0.2', port: 21_443, headers: { host: `files.${ZONE}` } }, (res) => {
        let text = '';
        res.on('data', (piece) => (text += String(piece)));
        res.on('end', () => resolve(text));
      })
        .on('error', reject)
        .end();
    });
    expect(body).toBe(`the product, asked for files.${ZONE}`);
  });
  it('its page shows everything and escapes it; faults are set by name, and unknown ones refused', () => {
    world.setFaults({ 'router.firewall': true, 'router.slowMs': 250, 'stun.silent': true });
    expect(world.faults()).toMatchObject({
      'router.firewall': true,
      'router.slowMs': 250,
      'stun.silent': true,
      'names.silent': false,
    });
    const html = worldPage(world, 3, 0);
    expect(html).toContain('name="router.firewall" checked');
    expect(html).toContain('files.saltmarsh.example');
    expect(() => world.setFaults({ 'router.explode': true })).toThrow('router.explode');
    world.setFaults({});
    expect(Object.values(world.faults()).every((v) => v === false || v === 0)).toBe(true);
  });
});
