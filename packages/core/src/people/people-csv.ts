import { signInNameFor } from '../setup/names.js';

/** What a column of a list of people can be. */
export const PEOPLE_COLUMNS = ['name', 'first', 'last', 'email', 'signInName', 'groups'] as const;
export type PeopleColumn = (typeof PEOPLE_COLUMNS)[number];

/** Headings as lists of people have them (common practice, no source); compared without spaces, hyphens and case. */
const HEADINGS: Record<PeopleColumn, readonly string[]> = {
  name: ['name', 'fullname', 'displayname', 'person'],
  first: ['first', 'firstname', 'givenname', 'forename'],
  last: ['last', 'lastname', 'surname', 'familyname'],
  email: ['email', 'mail', 'emailaddress', 'mailaddress'],
  signInName: ['signinname', 'signin', 'signsinas', 'username', 'user', 'login', 'account', 'shortname'],
  groups: ['groups', 'group', 'team', 'teams', 'department'],
};

/** Which column is what, by its heading; null: of no use here. The first of several is taken. */
export function matchColumns(headings: readonly string[]): (PeopleColumn | null)[] {
  const taken = new Set<PeopleColumn>();
  return headings.map((heading) => {
    const plain = heading.toLowerCase().replace(/[^a-z]/g, '');
    const column = PEOPLE_COLUMNS.find((c) => !taken.has(c) && HEADINGS[c].includes(plain)) ?? null;
    if (column) taken.add(column);
    return column;
  });
}

/** A person of a list. */
export interface ListedPerson {
  /** Of the file; the headings are line 1. */
  line: number;
  name: string;
  email: string;
  signInName: string;
  groups: string[];
}

/**
 * People out of the rows of a list, headings left out. Names in two columns are put together; who has no name to sign in
 * by gets one made of their own; groups are parted by semicolons, commas or bars.
 */
export function peopleOfRows(
  rows: readonly (readonly string[])[],
  columns: readonly (PeopleColumn | null)[],
): ListedPerson[] {
  return rows.flatMap((row, i): ListedPerson[] => {
    const of = (column: PeopleColumn) => (row[columns.indexOf(column)] ?? '').trim();
    if (row.every((cell) => cell.trim() === '')) return [];
    const name = of('name') || [of('first'), of('last')].filter(Boolean).join(' ');
    const groups = of('groups')
      .split(/[;,|]/)
      .map((group) => group.trim())
      .filter(Boolean);
    const signInName = of('signInName').toLowerCase() || signInNameFor(name);
    return [{ line: i + 2, name, email: of('email'), signInName, groups: [...new Set(groups)] }];
  });
}

/**
 * Whether a cell begins as a formula of a spreadsheet does: opened there again, it would be worked out (OWASP, CSV
 * Injection).
 */
export const beginsAsFormula = (cell: string): boolean => /^[=+\-@\t\r]/.test(cell);

/**
 * The text of a file, whatever wrote it: by its byte order mark; else UTF-8, where it is; else as spreadsheets of western
 * offices write it (windows-1252).
 * @param decode of the encoding of that name (WHATWG Encoding); throws where the bytes are none
 */
export function decodeList(bytes: Uint8Array, decode: (encoding: string, bytes: Uint8Array) => string): string {
  const [a, b, c] = bytes;
  if (a === 0xff && b === 0xfe) return decode('utf-16le', bytes.subarray(2));
  if (a === 0xfe && b === 0xff) return decode('utf-16be', bytes.subarray(2));
  if (a === 0xef && b === 0xbb && c === 0xbf) return decode('utf-8', bytes.subarray(3));
  try {
    return decode('utf-8', bytes);
  } catch {
    return decode('windows-1252', bytes);
  }
}
