import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { describe, expect, it } from 'vitest';
import { canonicalDomain } from './recipients.js';

/*
 * IdnaTestV2.txt of UTS #46, version 13.0.0 (© 2019 Unicode, Inc., terms in the file), as Debian ships it in
 * librust-idna-dev; compressed. Columns: source; toUnicode; status; toAsciiN; status; toAsciiT; status. A column that is
 * empty says the same as the one before.
 */
const file = gunzipSync(readFileSync(join(import.meta.dirname, 'idna-test-v2-13.0.0.txt.gz'))).toString('utf8');

interface Row {
  source: string;
  unicode: string;
  /** Null: there is none. */
  ascii: string | null;
}

const plain = (text: string) =>
  text.replace(/\\u([0-9A-F]{4})/g, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));
const rows = file
  .split('\n')
  .map((line) => line.replace(/#.*/, ''))
  .filter((line) => line.trim() !== '')
  .map((line): Row => {
    const [source = '', unicode = '', status = '', ascii = '', asciiStatus = ''] = line
      .split(';')
      .map((column) => plain(column.trim()));
    const isNone = !['', '[]'].includes(asciiStatus || status);
    return { source, unicode: unicode || source, ascii: isNone ? null : ascii || unicode || source };
  });

/**
 * Code points whose status became another between that version and the tables that are used (16.0): Georgian capitals,
 * turned F, reversed C and palochka are mapped, three signs of comparison are valid, a Hangul filler is ignored
 * (modifications of UTS #46, from memory).
 */
const CHANGED = /[\u10A0-\u10C5\u2132\u2183\u04C0\u2260\u226E\u226F\u115F]|[=<>]\u0338/;
/** What we do not take though it is a domain: one label alone, one that ends in digits, and a dot at the end is left out. */
const isOfNetwork = (ascii: string) => !ascii.includes('.') || /\.\d+$/.test(ascii);

describe('domains by the test file of UTS #46', () => {
  it('is all of it', () => expect(rows.length).toBe(6225));

  it('are compared as it says, but for what has changed since', () => {
    const compared = rows.filter(({ source, unicode }) => !CHANGED.test(source + unicode) && !/[.．。｡]$/.test(source));
    expect(compared.length).toBeGreaterThan(4000);
    const wrong = compared.filter(({ source, ascii }) => {
      const expected = ascii === null || isOfNetwork(ascii) ? null : ascii;
      return canonicalDomain(source) !== expected;
    });
    expect(wrong).toEqual([]);
  });

  it('with a dot at the end are the same as without', () => {
    const dotted = rows.filter(
      ({ source, unicode, ascii }) => ascii !== null && /[^.]\.$/.test(source) && !CHANGED.test(source + unicode),
    );
    expect(dotted.length).toBeGreaterThan(20);
    for (const { source, ascii } of dotted) {
      const bare = ascii?.replace(/\.$/, '') ?? '';
      expect(canonicalDomain(source), source).toBe(isOfNetwork(bare) ? null : bare);
    }
  });
});
