import type { AddressSheet } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Lab } from './_fixtures/lab.js';
import { until } from './_fixtures/office.js';

// An authority that takes seconds to look, wants to know whose account it is, and refuses some good nonces (Pebble).
const binding = { id: 'office-7', key: randomBytes(32).toString('base64url') };
let lab: Lab;
const iris = () => lab.office.iris;
const sheet = async (): Promise<AddressSheet> => lab.address.sheet();

beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: true },
    authority: { nonceReject: 10, sleepSeconds: 6, binding },
    // What is to be shown for the name is to be shown elsewhere in the zone.
    records: [`_acme-challenge.files CNAME proofs`],
  });
  await lab.tellNameServer();
  await lab.address.does('update-record');
  await lab.forgetNames();
  await lab.address.does('map-port');
}, 180_000);
afterAll(() => lab?.close());

/** Asks for a certificate, and hears what is told on the way. */
async function watched(): Promise<string[]> {
  const began = performance.now();
  const at = `/api/reach/addresses/${lab.address.row.id}/remedies/outside`;
  const { status } = await iris().ask('POST', at, { act: 'get-certificate' });
  expect([status, performance.now() - began < 3000]).toEqual([200, true]);
  const told = new Set<string>();
  let isOver = false;
  const listening = until(async () => {
    const { order } = await sheet();
    if (order) told.add(order.failure ?? order.words);
    expect(order).toBeNull();
  }, 90_000).finally(() => (isOver = true));
  // Whoever comes meanwhile is served as ever; what they wait for is no reason to hear less.
  const visiting = async () => {
    while (served && !isOver) expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 });
  };
  await Promise.all([listening, visiting()]);
  return [...told];
}
let served = false;

describe('a strict authority that takes its time', () => {
  it('says whole why it gives nothing to whom it does not know', async () => {
    const { status, body } = await lab.address.act('get-certificate');
    expect([status, body.detail]).toEqual([409, expect.stringMatching(/external ?account/i) as string]);
    expect((await sheet()).order?.failure).toMatch(/external ?account/i);
  });
  it('knows the office by what it gave out, of which the key is never told', async () => {
    expect((await iris().ask('PUT', '/api/reach/authority/binding', binding)).status).toBe(204);
    const text = JSON.stringify((await iris().ask('GET', '/api/reach/network')).body);
    expect(text).toContain('office-7');
    expect(text).not.toContain(binding.key);
  });
  it('blocks nobody: the request is answered at once, and the progress is seen', async () => {
    // The proof is shown where the zone sends whoever looks for it.
    expect(await watched()).toContain('The authority looks for the proof in the zone.');
    served = true;
    expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 });
  });
  it('goes on when the process that was at it is killed', { timeout: 240_000 }, async () => {
    const before = await lab.serial();
    const at = `/api/reach/addresses/${lab.address.row.id}`;
    await iris().ask('POST', `${at}/remedies/outside`, { act: 'get-certificate' });
    await until(async () => expect((await sheet()).order?.step).not.toBe('waiting'));
    await lab.office.restart('SIGKILL');
    await until(async () => expect((await sheet()).order).toBeNull(), 200_000);
    expect(await lab.serial()).not.toBe(before);
  });
});

describe('where port 80 is blocked and the zone takes no updates', () => {
  it('the proof is shown in a handshake on the own door, and visitors go on coming', { timeout: 120_000 }, async () => {
    await lab.tellNameServer({ zone: 'other.example' });
    await lab.network.router.must('nft', ...'add table inet fault'.split(' '));
    await lab.network.router.must('nft', 'add chain inet fault in { type filter hook prerouting priority -300; }');
    await lab.network.router.must('nft', ...'add rule inet fault in iifname wan tcp dport 80 drop'.split(' '));
    const before = await lab.serial();
    expect(await watched()).toContain('The authority looks for the proof on port 443.');
    expect(await lab.serial()).not.toBe(before);
  });
});
