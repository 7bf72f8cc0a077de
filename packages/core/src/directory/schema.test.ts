import { describe, expect, it } from 'vitest';
import {
  attributesOf,
  DIRECTORY_SCHEMAS,
  entryId,
  filterValue,
  groupOf,
  idBytes,
  personOf,
  rangeOf,
  searchFilter,
  type DirectoryEntry,
} from './schema.js';

const entry = (attributes: Record<string, string[]>): DirectoryEntry => ({
  dn: 'uid=zoe,ou=Crew,dc=saltmarsh,dc=example',
  id: 'z',
  attributes: new Map(Object.entries(attributes).map(([name, values]) => [name.toLowerCase(), values])),
});
const ZOE = { cn: ['Zoe Calder'], mail: ['zoe@saltmarsh.example'], uid: ['zoe'] };

describe('what an entry is', () => {
  it('is said by the first attribute that it has', () => {
    const zoe = personOf(entry(ZOE), DIRECTORY_SCHEMAS.person);
    expect(zoe).toMatchObject({ name: 'Zoe Calder', signInName: 'zoe', names: [], disabled: false });
    const named = personOf(entry({ ...ZOE, displayName: ['Zoë'] }), DIRECTORY_SCHEMAS.person);
    expect(named).toMatchObject({ name: 'Zoë' });
  });

  it('keeps a name that cannot be typed here beside one that can', () => {
    const zoe = personOf(entry({ ...ZOE, uid: ['Calder_Zoe'] }), DIRECTORY_SCHEMAS.person);
    expect(zoe).toMatchObject({ signInName: 'calderzoe', names: ['calder_zoe'] });
    const attributes = { ...ZOE, sAMAccountName: ['ZCalder'], userPrincipalName: ['Zoe@Saltmarsh.example'] };
    expect(personOf(entry(attributes), DIRECTORY_SCHEMAS.domain)).toMatchObject({
      signInName: 'zcalder',
      names: ['zoe@saltmarsh.example'],
    });
  });

  it.each([
    ['512', false],
    ['514', true],
    ['66050', true],
    ['66048', false],
    ['much', false],
  ])('userAccountControl %s: disabled %s', (userAccountControl, disabled) => {
    const attributes = { ...ZOE, sAMAccountName: ['zoe'], userAccountControl: [userAccountControl] };
    expect(personOf(entry(attributes), DIRECTORY_SCHEMAS.domain)).toMatchObject({ disabled });
  });

  it.each([
    [{ ...ZOE, cn: [] }, 'It has no name.'],
    [{ ...ZOE, mail: [' '] }, 'It has no mail address.'],
    [{ ...ZOE, mail: ['zoe at saltmarsh'] }, 'Its mail address is none.'],
    [{ ...ZOE, cn: ['佐'], uid: ['佐'] }, 'Nothing of it can be typed as a name to sign in by.'],
  ])('%j lacks something', (attributes, fault) => {
    expect(personOf(entry(attributes), DIRECTORY_SCHEMAS.person)).toMatchObject({ fault });
  });

  it('takes nothing over that would break a line or a header', () => {
    const zoe = personOf(entry({ ...ZOE, cn: ['Zoe\r\nBcc: all\u202e'] }), DIRECTORY_SCHEMAS.person);
    expect(zoe).toMatchObject({ name: 'Zoe Bcc: all' });
  });

  it('has members, by whatever attribute', () => {
    const crew = groupOf(entry({ cn: ['Crew'], member: ['uid=a'], memberUid: ['b'] }), DIRECTORY_SCHEMAS.person);
    expect(crew).toMatchObject({ name: 'Crew', members: ['uid=a', 'b'] });
  });

  it('is asked for by name, each attribute once', () => {
    const asked = attributesOf({ ...DIRECTORY_SCHEMAS.person, memberOfAttribute: '' });
    expect(asked).toEqual([...new Set(asked)]);
    expect(asked).not.toContain('');
  });
});

describe('filters', () => {
  // RFC 4515 §4: the examples that escape something.
  it.each([
    ['Parens R Us (for all your parenthetical needs)', String.raw`Parens R Us \28for all your parenthetical needs\29`],
    ['*', String.raw`\2a`],
    ['C:\\MyFile', String.raw`C:\5cMyFile`],
    ['\u0000\u0000\u0000\u0004', '\\00\\00\\00\u0004'],
  ])('%j is a value, not a part', (text, written) => {
    expect(filterValue(text)).toBe(written);
  });

  it('look for a word in several attributes, whatever is typed', () => {
    expect(searchFilter('(a=b)', ['cn', 'mail'], ' zoe ')).toBe('(&(a=b)(|(cn=*zoe*)(mail=*zoe*)))');
    expect(searchFilter('(a=b)', ['cn'], '*)(uid=*')).toBe(String.raw`(&(a=b)(|(cn=*\2a\29\28uid=\2a*)))`);
    expect(searchFilter('(a=b)', ['cn'], ' ')).toBe('(a=b)');
  });
});

describe('ids and ranges', () => {
  it('a text is a text, bytes are their digits', () => {
    const bytes = (text: string) => new Uint8Array([...text].map((c) => c.charCodeAt(0)));
    expect(entryId(bytes('597AE2F6-16A6-1027-98F4-D28B5365DC14'))).toBe('597ae2f6-16a6-1027-98f4-d28b5365dc14');
    expect(entryId(new Uint8Array([0xe2, 0x1c, 0, 0x41, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 0xff]))).toBe(
      '#e21c004105060708090a0b0c0d0e0fff',
    );
    for (const id of ['#e21c00', '597ae2f6-16a6-1027']) expect(entryId(idBytes(id))).toBe(id);
  });

  it('values come in spans', () => {
    expect(rangeOf('member;range=0-1499')).toEqual({ name: 'member', first: 0, last: 1499 });
    expect(rangeOf('Member;Range=1500-*')).toEqual({ name: 'Member', first: 1500, last: null });
    expect(rangeOf('member')).toBeNull();
  });
});
