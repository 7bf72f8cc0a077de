import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  isProviderUrl,
  whoByProvider,
  type ProviderCandidate,
  type ProviderClaims,
  type ProviderRules,
} from './provider.js';

const claims = (part: Partial<ProviderClaims> = {}): ProviderClaims => ({
  ...{ subject: 's', email: 'zoe@saltmarsh.example', emailVerified: true, name: 'Zoe Calder', groups: [] },
  ...part,
});
const account = (id: string, part: Partial<ProviderCandidate> = {}): ProviderCandidate => ({
  ...{ id, role: 'staff', usable: true, taken: false },
  ...part,
});
const NONE: ProviderRules = { makesAccounts: false, domains: [] };
const who = (byMail: ProviderCandidate[], said = claims(), rules = NONE, bySubject: string | null = null) => {
  const found = whoByProvider(said, rules, { bySubject, byMail });
  return found.kind === 'refused' ? found.code : 'personId' in found ? `${found.kind} ${found.personId}` : found.kind;
};

describe('who somebody is by a provider', () => {
  it('goes by what never changes of them before anything else', () => {
    expect(who([account('b', { role: 'admin' })], claims({ email: null }), NONE, 'a')).toBe('known a');
  });
  it('is somebody of the office whose address it has verified', () => {
    expect(who([account('a')])).toBe('link a');
    expect(who([account('a')], claims({ emailVerified: false }))).toBe('provider.mail-unverified');
    expect(who([account('a')], claims({ email: null }))).toBe('provider.mail-unverified');
  });
  it('is no admin, no guest, nobody of two, and nobody whom somebody else is already', () => {
    expect(who([account('a', { role: 'admin' })])).toBe('provider.admin');
    expect(who([account('a', { role: 'guest' })])).toBe('provider.guest');
    expect(who([account('a'), account('b')])).toBe('provider.taken');
    expect(who([account('a', { taken: true })])).toBe('provider.taken');
  });
  it('is nobody new at the address of whoever was sent away', () => {
    const rules = { makesAccounts: true, domains: ['saltmarsh.example'] };
    expect(who([account('a', { usable: false })], claims(), rules)).toBe('provider.disabled');
    expect(who([account('a', { usable: false }), account('b')], claims(), rules)).toBe('link b');
  });
  it('is new at the domains that were said', () => {
    const rules = { makesAccounts: true, domains: ['saltmarsh.example'] };
    expect(who([], claims({ email: 'zoe@SALTMARSH.example' }), rules)).toBe('new');
    for (const email of ['zoe@sub.saltmarsh.example', 'zoe@saltmarsh.example.test', 'saltmarsh.example'])
      expect(who([], claims({ email: email.includes('@') ? email : `@${email}.x` }), rules)).toBe('provider.nobody');
    expect(who([], claims(), { ...rules, makesAccounts: false })).toBe('provider.nobody');
  });
  it('never gives an account away that can be used by somebody else', () => {
    const candidate = fc.record({
      id: fc.constantFrom('a', 'b', 'c'),
      role: fc.constantFrom('admin', 'staff', 'guest'),
      usable: fc.boolean(),
      taken: fc.boolean(),
    }) as fc.Arbitrary<ProviderCandidate>;
    fc.assert(
      fc.property(fc.array(candidate, { maxLength: 4 }), fc.boolean(), fc.boolean(), (byMail, verified, makes) => {
        const rules = { makesAccounts: makes, domains: ['saltmarsh.example'] };
        const found = whoByProvider(claims({ emailVerified: verified }), rules, { bySubject: null, byMail });
        if (found.kind === 'refused') return;
        expect(verified).toBe(true);
        if (found.kind === 'new') expect(byMail).toEqual([]);
        else expect(byMail.find((p) => p.id === found.personId && p.usable && !p.taken)?.role).toBe('staff');
      }),
    );
  });
});

it('a provider is asked where the line is encrypted, or on this very machine', () => {
  for (const url of ['https://id.saltmarsh.example', 'http://127.0.0.1:4000', 'http://localhost/', 'http://[::1]:9'])
    expect(isProviderUrl(url), url).toBe(true);
  for (const url of [
    'http://id.saltmarsh.example',
    'http://127.0.0.1.saltmarsh.example',
    'http://localhost.x',
    'https://',
  ])
    expect(isProviderUrl(url), url).toBe(false);
});
