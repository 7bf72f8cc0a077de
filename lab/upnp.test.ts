import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import { OFFICE, WORLD } from './_fixtures/network.js';
import { until } from './_fixtures/office.js';
import { changed, HOST, lookedUp } from './_fixtures/services.js';
import { updateProgram } from './_fixtures/updates.js';

// A router that speaks UPnP and nothing else: Debian's miniupnpd, behind a firewall of nftables.
const folder = mkdtempSync(join(tmpdir(), 'quay-lab-hook-'));
const hook = updateProgram({
  file: (name, text) => {
    writeFileSync(join(folder, name), text, { mode: 0o755 });
    return join(folder, name);
  },
});
let lab: Lab;
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: false },
    authority: { nonceReject: 5, sleepSeconds: null },
    records: [`files A ${WORLD.line}`],
    reach: { nameHook: hook },
  });
}, 120_000);
afterAll(async () => {
  await lab?.close();
  rmSync(folder, { recursive: true });
});

describe('a router that speaks only UPnP', () => {
  it('is found, and says the address of the line', async () => {
    const check = await lab.address.check();
    expect(found(check, 'outside', 'name')).toMatchObject({ mark: 'ok', value: WORLD.line });
    expect(found(check, 'outside', 'line')).toMatchObject({ mark: 'ok', value: 'public' });
    expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
    expect(found(check, 'outside', 'router').remedies.map((r) => r.act)).toContain('map-port');
  });
  it('opens the ports, and outsiders come through', async () => {
    expect(await lab.fromOutside(80)).toMatchObject({ status: 0 });
    const check = await lab.address.does('map-port');
    expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
    expect((await lab.fromOutside(80)).status).toBeGreaterThan(0);
  });
  it('that was started anew is asked again within a minute or so', async () => {
    await lab.restartRouter();
    await until(async () => expect((await lab.fromOutside(80)).status).toBeGreaterThan(0), 90_000);
    expect(found(await lab.address.check(), 'outside', 'router')).toMatchObject({ mark: 'ok' });
  }, 120_000);
});

it('a port 80 that another device has keeps nobody from the rest', async () => {
  await lab.restartRouter();
  await lab.network.desk.must('upnpc', '-a', OFFICE.desk, '80', '80', 'tcp');
  const check = await lab.address.does('map-port');
  expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
  await lab.restartRouter();
  await lab.address.does('map-port');
});

describe('a program of the office that changes names', () => {
  it('is told what a name shall be, and has certificates come by a record', async () => {
    await changed(lab.network, HOST, [WORLD.relay]);
    expect((await lab.address.act('update-record')).status).toBe(200);
    expect(lookedUp(lab.network.world, WORLD.names, HOST)).toBe(WORLD.line);
    await lab.address.does('get-certificate');
    expect(lookedUp(lab.network.world, WORLD.names, `_acme-challenge.${HOST}`, 'TXT')).toBe('');
    expect(lab.authority?.running.said()).toMatch(/completed challenge/);
  });
  it('that fails is told with what it wrote', async () => {
    writeFileSync(hook, '#!/bin/sh\necho "the token has ended" >&2\nexit 3\n', { mode: 0o755 });
    expect((await lab.address.act('update-record')).body).toMatchObject({
      code: 'reach.update-refused',
      detail: expect.stringContaining('the token has ended') as string,
    });
  });
});
