/** Names of attribute types that stand for the same (RFC 4514 §3, RFC 4519). */
const TYPES: Record<string, string> = {
  '2.5.4.3': 'cn',
  '2.5.4.6': 'c',
  '2.5.4.7': 'l',
  '2.5.4.8': 'st',
  '2.5.4.9': 'street',
  '2.5.4.10': 'o',
  '2.5.4.11': 'ou',
  '0.9.2342.19200300.100.1.1': 'uid',
  '0.9.2342.19200300.100.1.25': 'dc',
  commonname: 'cn',
  organizationalunitname: 'ou',
  domaincomponent: 'dc',
  userid: 'uid',
};
const TYPE = /^\s*([A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)*)\s*=\s*/;
const SPECIAL = new Set(' "#+,;<=>\\');

const ENCODER = new TextEncoder();
const DECODER = new TextDecoder('utf-8', { fatal: true });

interface Cursor {
  text: string;
  at: number;
}

/** One pair of a name, `cn=Weir House`; its value as it is meant, without what escapes it. */
export interface NamePair {
  type: string;
  value: string;
}

/**
 * The parts of a distinguished name, the lowest first (RFC 4514 §3; quoted values as RFC 2253 §4 still takes them).
 * @returns null: it is none
 */
export function parseDn(text: string): NamePair[][] | null {
  if (text.trim() === '') return [];
  const cursor = { text, at: 0 };
  const parts: NamePair[][] = [[]];
  for (;;) {
    const pair = readPair(cursor);
    if (!pair) return null;
    parts.at(-1)?.push(pair);
    const next = text[cursor.at];
    if (next === undefined) return parts;
    cursor.at += 1;
    if (next === ',' || next === ';') parts.push([]);
    else if (next !== '+') return null;
  }
}

function readPair(cursor: Cursor): NamePair | null {
  const type = TYPE.exec(cursor.text.slice(cursor.at));
  if (!type) return null;
  cursor.at += type[0].length;
  const value = cursor.text[cursor.at] === '"' ? readQuoted(cursor) : readPlain(cursor);
  if (value === null) return null;
  const named = (type[1] as string).toLowerCase();
  return { type: TYPES[named] ?? named, value };
}

function readQuoted(cursor: Cursor): string | null {
  const bytes: number[] = [];
  cursor.at += 1;
  for (;;) {
    const c = cursor.text[cursor.at];
    if (c === undefined) return null;
    if (c === '"') break;
    if (!readOne(cursor, bytes)) return null;
  }
  cursor.at += 1;
  skipSpaces(cursor);
  return utf8(bytes);
}

function readPlain(cursor: Cursor): string | null {
  const bytes: number[] = [];
  /** Spaces at the end are no part of it, unless they are escaped. */
  let kept = 0;
  for (;;) {
    const c = cursor.text[cursor.at];
    if (c === undefined || c === ',' || c === ';' || c === '+') break;
    if (c === '"' || c === '<' || c === '>') return null;
    const escaped = c === '\\';
    if (!readOne(cursor, bytes)) return null;
    if (escaped || c !== ' ') kept = bytes.length;
  }
  return utf8(bytes.slice(0, kept));
}

/** A character, or what is escaped: one that is special, or a byte in two digits. */
function readOne(cursor: Cursor, bytes: number[]): boolean {
  if (cursor.text[cursor.at] !== '\\') {
    const point = cursor.text.codePointAt(cursor.at) as number;
    const character = String.fromCodePoint(point);
    if (point < 0x80) bytes.push(point);
    else bytes.push(...ENCODER.encode(character));
    cursor.at += character.length;
    return true;
  }
  const next = cursor.text.slice(cursor.at + 1, cursor.at + 3);
  if (/^[0-9a-fA-F]{2}$/.test(next)) {
    bytes.push(parseInt(next, 16));
    cursor.at += 3;
    return true;
  }
  if (!SPECIAL.has(next[0] ?? '')) return false;
  bytes.push((next[0] as string).charCodeAt(0));
  cursor.at += 2;
  return true;
}

function skipSpaces(cursor: Cursor): void {
  while (cursor.text[cursor.at] === ' ') cursor.at += 1;
}

/** Bytes that are no UTF-8 stay what they are: two names that differ in them are two names. */
function utf8(bytes: number[]): string {
  try {
    return DECODER.decode(new Uint8Array(bytes));
  } catch {
    return bytes.map((byte) => String.fromCharCode(byte)).join('');
  }
}

/**
 * A distinguished name in the one spelling by which it is compared: types and values without regard to case and to
 * repeated spaces (RFC 4517 §4.2.15, caseIgnoreMatch of RFC 4518), pairs of a part in order.
 * @returns null: it is none
 */
export function dnKey(dn: string): string | null {
  const parts = parseDn(dn);
  return parts && parts.map(partKey).join(',');
}

function partKey(pairs: readonly NamePair[]): string {
  return pairs
    .map(({ type, value }) => `${type}=${folded(value)}`)
    .sort()
    .join('+');
}

/** What parts a name is written as its digits, so that a key has a comma only between parts. */
const folded = (value: string): string =>
  value
    .normalize('NFKC')
    .toLowerCase()
    .replace(/\s+/g, ' ')
    .trim()
    .replace(/[\\,+]/g, (c) => `\\${c.charCodeAt(0).toString(16)}`);

/** Whether an entry is a branch's own or lies below it; both as {@link dnKey} writes them. */
export const isWithin = (key: string, branchKey: string): boolean =>
  branchKey === '' || key === branchKey || key.endsWith(`,${branchKey}`);

/** What an entry is called among those beside it: the value of its lowest part. */
export function lastName(dn: string): string {
  return (
    parseDn(dn)?.[0]
      ?.map((pair) => pair.value)
      .join(' ') ?? dn
  );
}
