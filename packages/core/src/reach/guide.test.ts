import { describe, expect, it } from 'vitest';
import { GUIDE_STEPS, guideOf, type GuideFacts } from './guide.js';

const facts: GuideFacts = {
  wayIn: 'mapping',
  address: { scheme: 'https', host: 'files.saltmarsh.example', port: null, pathPrefix: '' },
  server: { address: '192.168.20.10', tlsPort: 8443, plainPort: 8080 },
  publicAddress: '198.51.100.24',
  six: null,
  canUpdateRecords: true,
  relayHost: 'relay.example',
};
const steps = (part: Partial<GuideFacts>) => guideOf({ ...facts, ...part }).map((g) => g.step);
const entry = (part: Partial<GuideFacts>, step: string) => {
  const found = guideOf({ ...facts, ...part }).find((g) => g.step === step);
  if (!found) throw new Error(`there is no step ${step}`);
  return found;
};
const values = (part: Partial<GuideFacts>, step: string) => entry(part, step).values.map((v) => v.value);

describe('the guide', () => {
  it.each([
    ['mapping', ['record', 'mapping', 'certificate', 'redirect', 'closed']],
    ['fixed', ['record', 'certificate', 'redirect', 'closed']],
    ['relay', ['relay', 'record', 'certificate', 'closed']],
    ['office', []],
  ] as const)('of the way in %s is %j', (wayIn, expected) => expect(steps({ wayIn })).toEqual(expected));

  it('never asks for a step before the one it needs', () => {
    for (const wayIn of ['mapping', 'fixed', 'relay'] as const) {
      const order = steps({ wayIn }).filter((s) => s !== 'relay');
      expect(order).toEqual(GUIDE_STEPS.filter((s) => s !== 'relay' && order.includes(s)));
    }
  });

  it('gives the exact values for doing it by hand', () => {
    expect(values({}, 'record')[0]).toBe('files.saltmarsh.example A 198.51.100.24');
    expect(values({}, 'mapping')).toEqual([
      'external TCP 443 → 192.168.20.10 port 8443',
      'external TCP 80 → 192.168.20.10 port 8080',
    ]);
    expect(values({}, 'redirect')[0]).toBe(
      'http://files.saltmarsh.example/… → https://files.saltmarsh.example/… (301)',
    );
    expect(values({}, 'closed')).toEqual(['TCP 443 and TCP 80', 'everything else']);
  });

  it('gives those of IPv6 where the server has an address of its own', () => {
    const six = '2001:db8:20::10';
    expect(values({ six }, 'record')).toContain('files.saltmarsh.example AAAA 2001:db8:20::10');
    expect(values({ six }, 'mapping')).toContain('let TCP 443 and TCP 80 in to 2001:db8:20::10');
  });

  it('follows another port and a path prefix', () => {
    const address = { ...facts.address, port: 8444, pathPrefix: '/office' };
    expect(values({ address }, 'mapping')[0]).toBe('external TCP 8444 → 192.168.20.10 port 8443');
    expect(values({ address }, 'redirect')[0]).toContain('https://files.saltmarsh.example:8444/office/…');
    expect(values({ address }, 'closed')[0]).toBe('TCP 8444 and TCP 80');
  });

  it('through the relay opens nothing, and the name leads there', () => {
    expect(values({ wayIn: 'relay' }, 'record')).toEqual(['files.saltmarsh.example A relay.example']);
    expect(values({ wayIn: 'relay' }, 'closed')[0]).toBe('nothing');
  });

  it('says what the program cannot do, and why', () => {
    expect(entry({}, 'record').cannot).toBeNull();
    expect(entry({ canUpdateRecords: false }, 'record').cannot).toMatch(/a name server with a key/);
    expect(entry({ publicAddress: null }, 'record').cannot).toMatch(/not known yet/);
    expect(values({ publicAddress: null }, 'record')[0]).toContain('the address of your line');
    // The relay's address is known without the line's.
    expect(entry({ wayIn: 'relay', publicAddress: null }, 'record').cannot).toBeNull();
    expect(entry({ wayIn: 'relay', relayHost: null }, 'relay').cannot).toBe(
      'No relay has invited the office, or it has not answered yet.',
    );
  });

  it('gives each step a title and a reason', () => {
    for (const wayIn of ['mapping', 'fixed', 'relay'] as const)
      for (const g of guideOf({ ...facts, wayIn }))
        expect([g.title.length > 5, g.why.length > 20, g.values.length > 0]).toEqual([true, true, true]);
  });
});
