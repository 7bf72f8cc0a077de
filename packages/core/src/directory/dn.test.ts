import fc from 'fast-check';
import { createRequire } from 'node:module';
import { describe, expect, it } from 'vitest';
import { dnKey, isWithin, lastName, parseDn } from './dn.js';

/** It comes without types. */
const { DN, RDN } = createRequire(import.meta.url)('@ldapjs/dn') as {
  RDN: new (pairs: Record<string, string>) => object;
  DN: new (parts: { rdns: object[] }) => { toString: () => string };
};

describe('distinguished names', () => {
  // RFC 4514 §4, all examples of LDAP's string representation.
  it.each([
    ['UID=jsmith,DC=example,DC=net', [['uid', 'jsmith']], 3],
    [
      'OU=Sales+CN=J.  Smith,DC=example,DC=net',
      [
        ['ou', 'Sales'],
        ['cn', 'J.  Smith'],
      ],
      3,
    ],
    [String.raw`CN=James \"Jim\" Smith\, III,DC=example,DC=net`, [['cn', 'James "Jim" Smith, III']], 3],
    [String.raw`CN=Before\0dAfter,DC=example,DC=net`, [['cn', 'Before\rAfter']], 3],
    ['1.3.6.1.4.1.1466.0=#04024869', [['1.3.6.1.4.1.1466.0', '#04024869']], 1],
    [String.raw`CN=Lu\C4\8Di\C4\87`, [['cn', 'Lučić']], 1],
  ])('%s is read', (text, first, parts) => {
    const read = parseDn(text);
    expect(read?.[0]?.map((p) => [p.type, p.value])).toEqual(first);
    expect(read).toHaveLength(parts);
  });

  it('are compared without regard to case, spaces and the way of escaping', () => {
    const key = dnKey('cn=Weir House\\, North,ou=Sites,dc=saltmarsh,dc=example');
    for (const same of [
      'CN=weir  house\\2C north , OU=Sites, DC=saltmarsh,DC=EXAMPLE',
      '2.5.4.3="Weir House, North",ou=sites,dc=saltmarsh,dc=example',
    ])
      expect(dnKey(same)).toBe(key);
    expect(dnKey('ou=b+cn=a,dc=x')).toBe(dnKey('CN=A+OU=B,dc=x'));
    // What is escaped in one is a boundary in the other.
    expect(dnKey('cn=a\\,ou=b,dc=x')).not.toBe(dnKey('cn=a,ou=b,dc=x'));
    expect(dnKey('cn=a\\+ou\\=b,dc=x')).not.toBe(dnKey('cn=a+ou=b,dc=x'));
  });

  it('lie in a branch, and not in one whose name merely ends alike', () => {
    const branch = dnKey('ou=Crew,dc=example') as string;
    const isIn = (dn: string) => isWithin(dnKey(dn) as string, branch);
    expect(isIn('ou=crew,DC=example')).toBe(true);
    expect(isIn('uid=zoe,ou=Crew,dc=example')).toBe(true);
    expect(isIn('uid=zoe,ou=Old Crew,dc=example')).toBe(false);
    expect(isIn('uid=zoe\\,ou=Crew,dc=example')).toBe(false);
  });

  it.each(['cn', 'cn=a,,dc=b', '=a', 'cn=a\\', 'cn="a', 'cn=a\\zz', 'cn="a"b', 'cn=a,'])('%s is none', (text) => {
    expect(parseDn(text)).toBeNull();
  });

  it('are called by their lowest part', () => {
    expect(lastName('cn=Weir House\\, North,dc=example')).toBe('Weir House, North');
    expect(lastName('no name at all')).toBe('no name at all');
  });

  // Written by a library of somebody else's (@ldapjs/dn), whatever stands in the values but for what it leaves
  // unescaped itself: a backslash.
  it('are read as another program writes them', () => {
    const value = fc
      .string({ minLength: 1, maxLength: 12, unit: 'grapheme' })
      .filter((s) => s.trim() === s && !s.includes('\\'));
    fc.assert(
      fc.property(fc.array(value, { minLength: 1, maxLength: 4 }), (values) => {
        const written = new DN({ rdns: values.map((v) => new RDN({ cn: v })) }).toString();
        expect(parseDn(written)?.map((part) => part[0]?.value)).toEqual(values);
      }),
    );
  });
});
