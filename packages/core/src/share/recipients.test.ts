import { describe, expect, it } from 'vitest';
import { ANYONE, audienceWords, listingsOf, standingOf } from './audience.js';
import { canonicalAddress, canonicalDomain, readList } from './recipients.js';

describe('domains are compared', () => {
  it.each([
    // IdnaTestV2.txt of UTS #46 (Unicode 15.1), rows of toASCIIN (value from memory).
    ['fass.de', 'fass.de'],
    ['faß.de', 'xn--fa-hia.de'],
    ['Bücher.example', 'xn--bcher-kva.example'],
    ['BÜCHER.EXAMPLE', 'xn--bcher-kva.example'],
    ['xn--bcher-kva.example', 'xn--bcher-kva.example'],
    ['fenway．example', 'fenway.example'],
    ['fenway。example', 'fenway.example'],
    // RFC 5890 §2.3.2.1 and RFC 3492 §7.1: A-labels of other scripts (values from memory).
    ['例え.テスト', 'xn--r8jz45g.xn--zckzah'],
    ['Fenway.Example.', 'fenway.example'],
  ])('%s as %s', (text, canonical) => expect(canonicalDomain(text)).toBe(canonical));
  it.each([
    ...['', 'fenway', 'a b.example', 'a_b.example', '-a.example', 'a-.example', 'a..example', '192.0.2.7', '.example'],
    // What a label may not hold: 64 characters, a name of 254.
    ...[`${'a'.repeat(64)}.example`, `${'abcdefgh.'.repeat(28)}example`],
    // An A-label that is none (RFC 5891 §5.4), a mark without a letter, a mixed direction (RFC 5893).
    ...['xn--a-ecp.ru', '\u0300a.example', 'א1a.example'],
  ])('%s as none', (text) => expect(canonicalDomain(text)).toBeNull());
});

describe('addresses are compared', () => {
  it('in small letters on both sides of the @, the domain as A-labels', () => {
    expect(canonicalAddress(' M.Hale@FENWAY.example ')).toBe('m.hale@fenway.example');
    expect(canonicalAddress('info@Bücher.example')).toBe('info@xn--bcher-kva.example');
    expect(canonicalAddress("o'neil+x@a.fenway.example")).toBe("o'neil+x@a.fenway.example");
  });
  it('up to the lengths of RFC 5321 §4.5.3.1', () => {
    expect(canonicalAddress(`${'a'.repeat(64)}@fenway.example`)).not.toBeNull();
    expect(canonicalAddress(`${'a'.repeat(65)}@fenway.example`)).toBeNull();
    const domain = `${'a'.repeat(60)}.${'b'.repeat(60)}.${'c'.repeat(60)}.example`;
    expect(canonicalAddress(`${'a'.repeat(63)}@${domain}`)).not.toBeNull();
    expect(canonicalAddress(`${'a'.repeat(64)}@${domain}`)).toBeNull();
  });
  it.each([
    'a@b',
    '@fenway.example',
    'a.@fenway.example',
    '.a@fenway.example',
    'a..b@fenway.example',
    'a b@x.example',
    'ж@x.example',
  ])('%s is none', (text) => expect(canonicalAddress(text)).toBeNull());
});

describe('a list', () => {
  const read = (text: string) => readList(text).listed.map((l) => `${l.kind} ${l.value}`);
  it('is understood as it comes from a mail', () =>
    expect(
      read('"Hale, Marek" <M.Hale@fenway.example>; Zoe Calder <zoe@calder.example>, office@brookline.example'),
    ).toEqual(['address m.hale@fenway.example', 'address zoe@calder.example', 'address office@brookline.example']));
  it('is understood as it comes from a spreadsheet', () =>
    expect(
      read('m.hale@fenway.example\tzoe@calder.example\r\nfenway.example\n*.brookline.example\n@quarry.example'),
    ).toEqual([
      'address m.hale@fenway.example',
      'address zoe@calder.example',
      'domain fenway.example',
      'subdomains brookline.example',
      'domain quarry.example',
    ]));
  it('names every fault, and counts what comes twice', () => {
    const { listed, faults, twice } = readList(
      'zoe@calder.example, ZOE@calder.example, Marek Hale, a..b@x.example, fenway, *.x, m@fen way.example, a@-x.example',
    );
    expect([listed.length, twice]).toEqual([1, 1]);
    expect(faults.map((f) => `${f.text} ${f.words}`)).toEqual([
      'Marek Hale has no address',
      'a..b@x.example has a character before the @ that no address has',
      'fenway is no mail address, no domain and no number',
      '*.x is no domain',
      'm@fen way.example has no domain that there could be',
      'a@-x.example has no domain that there could be',
    ]);
  });
  it('of 5,000 is read at once', () => {
    const text = Array.from({ length: 5000 }, (_, n) => `person${n}@firm${n % 50}.example`).join('\n');
    expect(readList(text).listed).toHaveLength(5000);
  });
});

describe('who gets in', () => {
  it('a domain covers exactly itself, *.domain what lies below it', () => {
    expect(listingsOf('zoe@a.b.calder.example').map((l) => `${l.kind} ${l.value}`)).toEqual([
      'address zoe@a.b.calder.example',
      'domain a.b.calder.example',
      'subdomains b.calder.example',
      'subdomains calder.example',
      'subdomains example',
    ]);
    expect(listingsOf('zoe@calder.example').map((l) => `${l.kind} ${l.value}`)).toEqual([
      'address zoe@calder.example',
      'domain calder.example',
      'subdomains example',
    ]);
  });
  it('a block beats a listing', () => {
    expect(standingOf('listed', { listed: true, blocked: true })).toBe('blocked');
    expect(standingOf('verified', { listed: false, blocked: true })).toBe('blocked');
    expect(standingOf('listed', { listed: false, blocked: false })).toBe('unlisted');
    expect(standingOf('listed', { listed: true, blocked: false })).toBe('admitted');
    expect(standingOf('verified', { listed: false, blocked: false })).toBe('admitted');
  });
  it('is said in words', () => {
    const words = (of: Parameters<typeof audienceWords>[0]) =>
      audienceWords(of)
        .map((p) => p.text)
        .join('');
    expect(words(ANYONE)).toBe('Anyone');
    expect(words({ ...ANYONE, kind: 'verified' })).toBe('Anyone who proves a mail address');
    expect(words({ ...ANYONE, kind: 'listed', listed: 3 })).toBe('3 listed recipients who prove their address');
    expect(words({ ...ANYONE, kind: 'members', members: ['Site crew', 'Noel Farrow'] })).toBe(
      'Site crew and Noel Farrow, signed in',
    );
    expect(words({ ...ANYONE, kind: 'members', members: ['A', 'B', 'C', 'D', 'E'] })).toBe(
      'A, B, C and 2 more, signed in',
    );
  });
});
