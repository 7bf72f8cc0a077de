import { parsePhoneNumberFromString } from 'libphonenumber-js/min';
import { toASCII } from 'tr46';
import type { Listed } from './audience.js';

/** RFC 5321 §4.5.3.1: the local part has at most 64 octets, the path 256 with its brackets. */
const LONGEST_LOCAL = 64;
const LONGEST_ADDRESS = 254;
const LONGEST_NAME = 120;
/** With its country; what people put between digits. */
const NUMBER = /^\+[\d\s().\-/]{4,30}$/;
/** Digits as of a number, whatever is missing. */
const NUMBER_LIKE = /^(tel:)?[+\d][\d\s().\-/]{4,}$/i;
/** Atoms of RFC 5322 §3.2.3, with dots between them. */
const LOCAL = /^[a-z0-9!#$%&'*+/=?^_`{|}~-]+(\.[a-z0-9!#$%&'*+/=?^_`{|}~-]+)*$/i;

/**
 * A domain in the form it is compared in: A-labels (IDNA by UTS #46, non-transitional), small letters, without a dot at
 * its end; null when it is none.
 */
export function canonicalDomain(text: string): string | null {
  const ascii = toASCII(text.trim().replace(/\.$/, ''), {
    checkBidi: true,
    checkHyphens: true,
    checkJoiners: true,
    useSTD3ASCIIRules: true,
    verifyDNSLength: true,
    transitionalProcessing: false,
  });
  // One label names a machine of a network, not somebody elsewhere; a label of digits at the end is an IP address.
  return ascii !== null && ascii.includes('.') && !/\.\d+$/.test(ascii) ? ascii : null;
}

/** An address in the form it is compared in: the local part in small letters, the domain as above; null: it is none. */
export function canonicalAddress(text: string): string | null {
  const [, local, domain] = /^(.+)@([^@]+)$/.exec(text.trim()) ?? [];
  if (!local || !domain || local.length > LONGEST_LOCAL || !LOCAL.test(local)) return null;
  const canonical = canonicalDomain(domain);
  if (canonical === null) return null;
  const address = `${local.toLowerCase()}@${canonical}`;
  return address.length <= LONGEST_ADDRESS ? address : null;
}

/**
 * A telephone number in the form it is compared in (E.164, "+447700900123"), from how people write it: with + or 00 and
 * its country, with or without spaces, dots, dashes and brackets; null: it is none, or could not be one.
 */
export function canonicalNumber(text: string): string | null {
  const typed = text.trim().replace(/^tel:/i, '').replace(/^00/, '+');
  if (!NUMBER.test(typed)) return null;
  const found = parsePhoneNumberFromString(typed, { extract: false });
  return found?.isPossible() && !found.ext ? found.number : null;
}

/** Somebody who is known by a mail address or a telephone number, in the form they are compared in; null: neither. */
export const canonicalRecipient = (text: string): string | null => canonicalNumber(text) ?? canonicalAddress(text);

/** What of a pasted list could not be understood, and why. */
export interface ListFault {
  text: string;
  words: string;
}

export interface ReadList {
  listed: Listed[];
  faults: ListFault[];
  /** How many came more than once. */
  twice: number;
}

/**
 * A list as it is pasted from a mail or a spreadsheet: addresses, also with names before them, domains and `*.domain`,
 * separated by commas, semicolons, tabs or lines.
 */
export function readList(text: string): ReadList {
  const listed = new Map<string, Listed>();
  const faults: ListFault[] = [];
  let twice = 0;
  for (const { entry } of entriesOf(text)) {
    const read = readEntry(entry);
    if ('words' in read) faults.push({ text: entry.slice(0, 80), words: read.words });
    else if (listed.has(`${read.kind} ${read.value}`)) twice += 1;
    else listed.set(`${read.kind} ${read.value}`, read);
  }
  return { listed: [...listed.values()], faults, twice };
}

/** `"Hale, Marek" <m.hale@fenway.example>`: what stands in quotes parts nothing. */
const ENTRY = /(?:"[^"]*"|[^",;\t\r\n])+/g;

interface Entry {
  entry: string;
  /** What stands before it; empty: nothing. */
  name: string;
}

function entriesOf(text: string): Entry[] {
  return (text.match(ENTRY) ?? [])
    .flatMap((part): Entry[] => {
      const angled = [...part.matchAll(/([^<>]*)<([^<>]*)>/g)];
      if (angled.length > 0) return angled.map(([, name = '', entry = '']) => ({ entry, name: nameFrom(name) }));
      const words = part.trim().split(/\s+/);
      // Only where each is an address: what else stands apart by a space is told whole.
      const each = words.length > 1 && words.every((word) => word.includes('@')) ? words : [part.trim()];
      return each.map((entry) => ({ entry, name: '' }));
    })
    .map(({ entry, name }) => ({ entry: entry.trim().replace(/^mailto:/i, ''), name }))
    .filter(({ entry }) => entry !== '');
}

/** A name as it is shown: one line, without the quotes that keep its commas together (RFC 5322 §3.4). */
const nameFrom = (text: string): string =>
  text
    .replace(/[\p{C}"]+/gu, ' ')
    .replace(/\s+/g, ' ')
    .trim()
    .slice(0, LONGEST_NAME);

/** Somebody whom something is sent to. */
export interface Addressee {
  /** A mail address or a telephone number, in the form they are compared in. */
  value: string;
  /** Empty: not said. */
  name: string;
}

/** To whom something goes, as it is typed or pasted: names may stand before addresses or numbers, each in brackets. */
export function readAddressees(text: string, kind: 'address' | 'number'): { to: Addressee[]; faults: ListFault[] } {
  const to = new Map<string, Addressee>();
  const faults: ListFault[] = [];
  for (const { entry, name } of entriesOf(text)) {
    const read = readEntry(entry);
    if ('words' in read) faults.push({ text: entry.slice(0, 80), words: read.words });
    else if (read.kind !== kind) faults.push({ text: entry.slice(0, 80), words: NOT_THAT[kind] });
    else if (!to.get(read.value)?.name) to.set(read.value, { value: read.value, name });
  }
  return { to: [...to.values()], faults };
}

const NOT_THAT = {
  address: 'is no mail address',
  number: 'is no telephone number: write it with + and its country, as +44 7700 900123',
} as const;

function readEntry(entry: string): Listed | { words: string } {
  if (NUMBER_LIKE.test(entry)) {
    const value = canonicalNumber(entry);
    if (value !== null) return { kind: 'number', value };
    return { words: 'is no telephone number: write it with + and its country, as +44 7700 900123' };
  }
  if (entry.startsWith('*.')) {
    const value = canonicalDomain(entry.slice(2));
    return value === null ? { words: 'is no domain' } : { kind: 'subdomains', value };
  }
  const bare = entry.replace(/^@/, '');
  if (!bare.includes('@')) {
    const value = canonicalDomain(bare);
    if (value !== null) return { kind: 'domain', value };
    return { words: bare.includes(' ') ? 'has no address' : 'is no mail address, no domain and no number' };
  }
  const value = canonicalAddress(bare);
  if (value !== null) return { kind: 'address', value };
  const local = bare.slice(0, bare.lastIndexOf('@'));
  if (local.length > LONGEST_LOCAL)
    return { words: `is too long: before the @ there are at most ${LONGEST_LOCAL} characters` };
  return {
    words: LOCAL.test(local) ? 'has no domain that there could be' : 'has a character before the @ that no address has',
  };
}
