import type { ExposureAnswer, ReachNetwork } from '@quay/contract';
import { outsideMark } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import { SIX, WORLD } from './_fixtures/network.js';
import { until } from './_fixtures/office.js';
import { changed, HOST, lookedUp } from './_fixtures/services.js';

// Both families: IPv4 by a mapping, IPv6 by a hole in the router's firewall, which Debian's miniupnpd makes when it is
// asked by PCP, or by UPnP (WANIPv6FirewallControl) for ports from 1024 on.
const told = (lab: Lab, type: 'A' | 'AAAA') => lookedUp(lab.network.world, WORLD.names, HOST, type);
const by = (lab: Lab, at: string, port = 443) => lab.fromOutside(port, at);

describe('an office with both families', () => {
  let lab: Lab;
  beforeAll(async () => {
    lab = await Lab.open({
      router: { upnp: true, pcp: true },
      line: { six: true },
      authority: { nonceReject: 5, sleepSeconds: null },
    });
    await lab.tellNameServer();
  }, 120_000);
  afterAll(() => lab?.close());

  it('knows its own address, and tells it to nobody while the firewall is closed', async () => {
    const { body } = await lab.office.iris.ask<ReachNetwork>('GET', '/api/reach/network');
    expect(body.own.insideAddress6).toEqual({ value: [SIX.server], from: 'machine' });
    expect(await by(lab, SIX.server)).toMatchObject({ status: 0 });
    await lab.address.does('update-record');
    expect([told(lab, 'A'), told(lab, 'AAAA')]).toEqual([WORLD.line, '']);
  });
  it('opens both, and the name leads to both', async () => {
    await lab.address.does('map-port');
    expect([told(lab, 'A'), told(lab, 'AAAA')]).toEqual([WORLD.line, SIX.server]);
    await lab.forgetNames();
    const check = await lab.address.does('get-certificate');
    expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
    expect(found(check, 'outside', 'router').note).toMatch(/IPv6 open$/);
    expect(await by(lab, WORLD.line)).toEqual({ status: 200, wrong: 0 });
    expect(await by(lab, SIX.server)).toEqual({ status: 200, wrong: 0 });
    expect((await by(lab, SIX.server, 80)).status).toBeGreaterThan(0);
    // Only what is meant is open: what the office signs in at is not.
    expect(await by(lab, SIX.server, 4180)).toMatchObject({ status: 0 });
  });
  it('asks a name server over IPv6, when it is told so', { timeout: 30_000 }, async () => {
    const at = '/api/reach/network/resolvers';
    expect((await lab.office.iris.ask('PUT', at, { value: [SIX.router] })).status).toBe(204);
    expect(found(await lab.address.check(), 'office', 'name')).toMatchObject({ mark: 'ok' });
    // Where nobody answers over IPv6 the name is not found: it was asked there indeed.
    await lab.office.iris.ask('PUT', at, { value: ['2001:db8:20::99'] });
    expect(found(await lab.address.check(), 'office', 'name')).toMatchObject({ mark: 'fail' });
    expect((await lab.office.iris.ask('DELETE', at)).status).toBe(204);
  });
  it('a hole that somebody closes is a warning, and curl agrees', async () => {
    await lab.network.router.must('nft', 'flush', 'chain', 'inet', 'filter', 'miniupnpd');
    await lab.network.router.must(
      'nft',
      'insert',
      'rule',
      'inet',
      'filter',
      'forward',
      'tcp',
      'dport',
      '8443',
      'accept',
    );
    const check = await lab.address.check();
    expect(found(check, 'outside', 'port')).toMatchObject({ mark: 'warn', value: SIX.server });
    expect(found(check, 'outside', 'port').remedies[0]?.act).toBe('map-port');
    expect([await by(lab, WORLD.line), await by(lab, SIX.server)]).toMatchObject([{ status: 200 }, { status: 0 }]);
  });
  it('what the firewall leaves open over IPv6 is seen, and said to be open only there', async () => {
    const { server, router } = lab.network;
    const exposed = async () =>
      (
        await lab.office.iris.ask<ExposureAnswer>('GET', `/api/reach/addresses/${lab.address.row.id}/exposure`)
      ).body.rows.find((row) => row.port === 5432);
    expect(await exposed()).toMatchObject({ answers: false, verdict: 'as-it-should' });
    const database = await server.start('socat', ['TCP6-LISTEN:5432,fork,reuseaddr', 'OPEN:/dev/null']);
    await router.must('nft', 'insert', 'rule', 'inet', 'filter', 'forward', 'tcp', 'dport', '5432', 'accept');
    expect(await exposed()).toMatchObject({ verdict: 'open-but-should-not', found: 'connected over IPv6' });
    await database.end();
  });
  it('a router that was started anew is asked for both again', { timeout: 120_000 }, async () => {
    await lab.restartRouter();
    await until(async () => {
      expect([await by(lab, WORLD.line), await by(lab, SIX.server)]).toMatchObject([{ status: 200 }, { status: 200 }]);
    }, 100_000);
  });
  it(
    'another prefix: the new address is opened and told, and nothing is left of the old',
    { timeout: 150_000 },
    async () => {
      const { server, router, world } = lab.network;
      await server.must('ip', 'addr', 'del', `${SIX.server}/64`, 'dev', 'eth0');
      const moved = '2001:db8:21::10';
      await world.must('ip', '-6', 'route', 'add', '2001:db8:21::/64', 'via', SIX.line);
      await router.must('ip', 'addr', 'add', '2001:db8:21::1/64', 'dev', 'lan', 'nodad');
      await server.must('ip', 'addr', 'add', `${moved}/64`, 'dev', 'eth0', 'nodad');
      await until(() => expect(told(lab, 'AAAA')).toBe(moved), 140_000);
      expect(await by(lab, moved)).toMatchObject({ status: 200 });
      expect(told(lab, 'A')).toBe(WORLD.line);
    },
  );
  it('without any address over IPv6 the name leads to none', { timeout: 150_000 }, async () => {
    await lab.network.server.must('ip', 'addr', 'del', '2001:db8:21::10/64', 'dev', 'eth0');
    await until(() => expect(told(lab, 'AAAA')).toBe(''), 140_000);
    await lab.forgetNames();
    expect(outsideMark((await lab.address.check()).vantages)).not.toBe('fail');
  });
});

describe('a line whose IPv4 address many customers share', () => {
  let lab: Lab;
  beforeAll(async () => {
    lab = await Lab.open({
      router: { upnp: true, pcp: true },
      line: { six: true, shared: true },
      authority: { nonceReject: 0, sleepSeconds: null },
    });
    await lab.tellNameServer();
  }, 120_000);
  afterAll(() => lab?.close());

  it('is told before anything is asked: whom IPv6 lets in, and what is for all', async () => {
    const { body } = await lab.office.iris.ask<ReachNetwork>('GET', '/api/reach/network');
    expect(body.advice.wayIn).toBe('relay');
    expect(body.advice.words).toMatch(/only people who have IPv6 get in; for everybody: go through a relay/);
  });
  it('nobody gets in before, and what lets some in is offered', async () => {
    await changed(lab.network, HOST, ['100.64.3.4']);
    await lab.forgetNames();
    const check = await lab.address.check();
    // Such an address is no address for the world, which stops it before the line is looked at.
    expect(found(check, 'outside', 'name')).toMatchObject({ mark: 'fail', value: '100.64.3.4' });
    await changed(lab.network, HOST, [WORLD.elsewhere]);
    await lab.forgetNames();
    const line = found(await lab.address.check(), 'outside', 'line');
    expect(line).toMatchObject({ mark: 'fail', value: 'no address', note: 'shared' });
    expect(line.remedies.map((r) => r.act)).toEqual(['map-port', null, 'use-relay']);
  });
  it('lets people in by IPv6 alone, certificate and all, and says who cannot', async () => {
    await lab.address.does('map-port');
    await lab.address.does('update-record');
    expect([told(lab, 'A'), told(lab, 'AAAA')]).toEqual(['', SIX.server]);
    await lab.forgetNames();
    const check = await lab.address.does('get-certificate');
    expect(found(check, 'outside', 'line')).toMatchObject({ mark: 'warn', value: 'IPv6 only' });
    expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'ok', value: 'IPv6 443 open' });
    expect(outsideMark(check.vantages)).toBe('warn');
    expect(await by(lab, SIX.server)).toEqual({ status: 200, wrong: 0 });
    expect(await lab.fromOutside(443, null)).toEqual({ status: 200, wrong: 0 });
  });
});
