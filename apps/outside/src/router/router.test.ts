import { spawn } from 'node:child_process';
import { createSocket } from 'node:dgram';
import { createServer, type AddressInfo, type Server } from 'node:net';
import { connect } from 'node:net';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { decodePcp, decodePmp } from './codec.js';
import { Router } from './server.js';
import { map, NO_FAULTS, outsideAddress, unmap, type Mapping, type RouterState } from './state.js';

const GATEWAY = '127.20.0.1';
let router: Router;
let service: Server;
let ports: { pmp: number; upnp: number };
let clock = 1_000_000;
const publicPort = 20_443;
beforeAll(async () => {
  service = createServer((socket) => socket.end('inside')).listen(0, '127.0.0.1');
  await new Promise((resolve) => service.once('listening', resolve));
  router = new Router(
    '198.51.100.24',
    {
      publicSide: (external) => (external === 443 ? { host: '127.20.0.2', port: publicPort } : null),
      inside: () => ({ host: '127.0.0.1', port: (service.address() as AddressInfo).port }),
      who: (peer) => (peer === '127.0.0.9' ? '203.0.113.5' : '192.168.20.10'),
      description: 'http://192.168.20.1:5000/rootDesc.xml',
    },
    () => clock,
  );
  ports = await router.listen(GATEWAY);
});
afterAll(async () => {
  await router.close();
  service.close();
});

function run(command: string, ...args: string[]): Promise<{ status: number | null; said: string }> {
  return new Promise((resolve) => {
    const child = spawn(command, args);
    let said = '';
    for (const stream of [child.stdout, child.stderr]) stream.on('data', (piece: Buffer) => (said += piece.toString()));
    child.on('close', (status) => resolve({ status, said }));
  });
}
const natpmpc = (...args: string[]) => run('natpmpc', '-g', GATEWAY, ...args);
const upnpc = (...args: string[]) => run('upnpc', '-u', `http://${GATEWAY}:${ports.upnp}/rootDesc.xml`, ...args);
const through = (from = '127.0.0.9') =>
  new Promise<string>((resolve) => {
    const socket = connect({ host: '127.20.0.2', port: publicPort, localAddress: from });
    let said = '';
    socket.setTimeout(600, () => (resolve('timeout') as unknown) ?? socket.destroy());
    socket.on('data', (piece) => (said += piece.toString()));
    socket.on('end', () => resolve(said));
    socket.on('error', (error: NodeJS.ErrnoException) => resolve(error.code ?? 'error'));
  });

// natpmpc and upnpc are Debian's (natpmpc, miniupnpc).
describe('the router', () => {
  it('tells natpmpc its address and maps a port, which then really leads inside', async () => {
    expect(await through()).toBe('ECONNREFUSED');
    const { said, status } = await natpmpc('-a', '443', '8443', 'tcp', '3600');
    expect(status).toBe(0);
    expect(said).toMatch(/Public IP address : 198\.51\.100\.24/);
    expect(said).toMatch(/Mapped public port 443 protocol TCP to local port 8443 liftime 3600/);
    expect(await through()).toBe('inside');
  });
  it('grants no longer lease than it gives, and a lease that is not renewed lapses', async () => {
    expect((await natpmpc('-a', '443', '8443', 'tcp', '99999')).said).toMatch(/liftime 7200/);
    clock += 7201;
    await expect.poll(() => through(), { timeout: 4000 }).toBe('ECONNREFUSED');
  });
  it('speaks UPnP with upnpc: address, add, list, conflict, remove', async () => {
    expect((await upnpc('-s')).said).toMatch(/ExternalIPAddress = 198\.51\.100\.24/);
    expect((await upnpc('-a', '192.168.20.10', '8443', '443', 'TCP')).said).toMatch(
      /external 198\.51\.100\.24:443 TCP is redirected to internal 192\.168\.20\.10:8443/,
    );
    expect((await upnpc('-l')).said).toMatch(/TCP\s+443->192\.168\.20\.10:8443/);
    expect(await through()).toBe('inside');
    expect((await upnpc('-a', '192.168.20.99', '9000', '443', 'TCP')).said).toMatch(/718|Conflict/);
    expect((await upnpc('-d', '443', 'TCP')).said).toMatch(/returned : 0/);
    await expect.poll(() => through(), { timeout: 3000 }).toBe('ECONNREFUSED');
  });
  it('speaks PCP (RFC 6887 §11.1: the bytes of a MAP request, written out by hand)', async () => {
    const request = Buffer.concat([
      Buffer.from([2, 1, 0, 0]),
      Buffer.from([0, 0, 0x0e, 0x10]),
      Buffer.from('00000000000000000000ffffc0a8140a', 'hex'),
      Buffer.from('0102030405060708090a0b0c', 'hex'),
      Buffer.from([6, 0, 0, 0]),
      Buffer.from([0x20, 0xfb, 0x01, 0xbb]),
      Buffer.from('00000000000000000000ffff00000000', 'hex'),
    ]);
    const answer = await new Promise<Buffer>((resolve) => {
      const udp = createSocket('udp4');
      udp.once('message', (bytes) => udp.close(() => resolve(bytes)));
      udp.send(request, ports.pmp, GATEWAY);
    });
    expect(answer.subarray(0, 4).toString('hex')).toBe('02810000');
    expect(answer.readUInt32BE(4)).toBe(3600);
    expect([answer.readUInt16BE(40), answer.readUInt16BE(42), answer.subarray(44).toString('hex')]).toEqual([
      8443,
      443,
      '00000000000000000000ffffc6336418',
    ]);
    expect(await through()).toBe('inside');
  });
  it('misbehaves as real ones do, when told to', async () => {
    router.state = { ...router.state, faults: { ...NO_FAULTS, noLoopback: true } };
    expect([await through('127.0.0.9'), await through('127.0.0.1')]).toEqual(['inside', 'timeout']);
    router.state = { ...router.state, faults: { ...NO_FAULTS, firewall: true } };
    expect(await through()).toBe('timeout');
    router.state = { ...router.state, faults: { ...NO_FAULTS, carrierGrade: true } };
    expect((await natpmpc()).said).toMatch(/Public IP address : 100\.72\.14\.9/);
    router.state = { ...router.state, faults: { ...NO_FAULTS, noPmp: true, noPcp: true, noUpnp: true } };
    expect((await upnpc('-s')).status).not.toBe(0);
    router.state = { ...router.state, faults: NO_FAULTS };
  });
});

describe('its table of mappings', () => {
  const empty: RouterState = { mappings: [], publicAddress: '198.51.100.24', faults: NO_FAULTS };
  const asked = (host: number, external: number, internal = 8443): Mapping => ({
    protocol: 'tcp',
    externalPort: external,
    internalAddress: `192.168.20.${host}`,
    internalPort: internal,
    endsAt: 100,
    description: '',
  });
  it('gives the next free port when one is taken, and the same again when renewed', () => {
    const first = map(empty, asked(10, 443), 0, false);
    const second = map(first.state, asked(11, 443), 0, false);
    expect(second).toMatchObject({ outcome: 'mapped', mapping: { externalPort: 444 } });
    expect(map(second.state, asked(11, 443), 50, false)).toMatchObject({ mapping: { externalPort: 444 } });
    expect(map(first.state, asked(11, 443), 0, true)).toMatchObject({
      outcome: 'taken',
      by: { internalAddress: '192.168.20.10' },
    });
    expect(map(first.state, asked(11, 443), 101, true).outcome).toBe('mapped');
  });
  it('never gives one port to two', () => {
    const steps = fc.array(
      fc.record({
        host: fc.integer({ min: 1, max: 4 }),
        external: fc.integer({ min: 440, max: 444 }),
        internal: fc.integer({ min: 1, max: 3 }),
        insist: fc.boolean(),
        drop: fc.boolean(),
      }),
      { maxLength: 40 },
    );
    fc.assert(
      fc.property(steps, (list) => {
        let state = empty;
        for (const s of list)
          state = s.drop
            ? unmap(state, 'tcp', `192.168.20.${s.host}`, s.internal)
            : map(state, asked(s.host, s.external, s.internal), 0, s.insist).state;
        expect(new Set(state.mappings.map((m) => m.externalPort)).size).toBe(state.mappings.length);
      }),
    );
  });
  it("behind another router its own address is not the world's", () =>
    expect(outsideAddress({ ...empty, faults: { ...NO_FAULTS, doubleNat: true } })).toBe('192.168.1.2'));
  it('hostile datagrams are refused or passed over', () =>
    fc.assert(
      fc.property(
        fc.uint8Array({ maxLength: 80 }),
        (bytes) => void [decodePmp(Buffer.from(bytes)), decodePcp(Buffer.from(bytes))],
      ),
    ));
});
