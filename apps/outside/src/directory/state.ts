/** An entry: attributes by their names as they are written; values are texts, ids bytes. */
export interface StandInEntry {
  dn: string;
  attributes: Record<string, string[] | Buffer>;
}

export interface DirectoryFaults {
  /** Waits so long before each answer. */
  slowMs: number;
  /** Gives so many entries of what was asked for, and says that there are more; 0: all. */
  onlyFirst: number;
  /** Takes connections and answers nothing. */
  silent: boolean;
}

/** A filter as the library gives it (RFC 4511 §4.5.1.7). */
export interface Filter {
  type: string;
  attribute?: string;
  value?: string;
  subInitial?: string;
  subAny?: string[];
  subFinal?: string;
  filters?: Filter[];
  filter?: Filter;
}

export const DIRECTORY_BASE = 'dc=saltmarsh,dc=example';
/** As whom the product reads it. */
export const DIRECTORY_READER = { dn: `cn=Quay,ou=Services,${DIRECTORY_BASE}`, password: 'ferry-lamp-osier-71' };
/** Everybody of it signs in with their short name and this behind it. */
export const PASSWORD_ENDS = '-heron-sluice';

/** 0x200 is an ordinary account, 0x2 a disabled one. */
const ACCOUNT = { usable: '512', disabled: '514' } as const;

/** The made-up office, as a domain controller has it: those who have an account in the demo, and some who do not yet. */
export function officeDirectory(): StandInEntry[] {
  const crew = `OU=Crew,${DIRECTORY_BASE}`;
  const services = `OU=Services,${DIRECTORY_BASE}`;
  const people: [short: string, name: string, state?: keyof typeof ACCOUNT][] = [
    ['tomas', 'Tomas Osei'],
    ['hana', 'Hana Vance'],
    ['mina', 'Mina Sorrel'],
    ['otis', 'Otis Fenn'],
    ['wren', 'Wren Halyard'],
    ['jory', 'Jory Tamsin', 'disabled'],
  ];
  const dnOf = (name: string): string => `CN=${name},${crew}`;
  const member = (...names: string[]) => names.map(dnOf);
  return [
    { dn: DIRECTORY_BASE, attributes: { objectClass: ['top', 'domain'], dc: ['saltmarsh'] } },
    branch('Crew'),
    branch('Services'),
    person(0, DIRECTORY_READER.dn, 'quay', 'Quay'),
    ...people.map(([short, name, state], n) => person(n + 1, dnOf(name), short, name, state)),
    group(40, `CN=Tide gauges,${crew}`, member('Mina Sorrel', 'Wren Halyard')),
    group(41, `CN=Field trainees,${crew}`, [...member('Otis Fenn'), `CN=Tide gauges,${crew}`]),
    group(42, `CN=Scanners,${services}`, member('Tomas Osei', 'Hana Vance')),
  ];
}

/**
 * Beside the office, so many people more, and what directories of others hold: a group of all of them, groups that are in
 * each other, and names in which everything is escaped.
 */
export function crowdedDirectory(count: number): StandInEntry[] {
  const crew = `OU=Crew,${DIRECTORY_BASE}`;
  const odd = String.raw`CN=Quill\, \"Rose\" \+ \#2 \<West\>,${crew}`;
  const many = Array.from({ length: count }, (_, n) => `CN=Person ${n},${crew}`);
  const [round, robin] = [`CN=Round,${crew}`, `CN=Robin,${crew}`];
  return [
    ...officeDirectory(),
    ...many.map((dn, n) => person(n + 1000, dn, `person${n}`, `Person ${n}`)),
    person(60, odd, 'rose', 'Rose Quill'),
    group(61, `CN=Many,${crew}`, [...many, odd.toUpperCase()]),
    group(62, round, [robin, odd]),
    group(63, robin, [round]),
  ];
}

const branch = (name: string): StandInEntry => ({
  dn: `OU=${name},${DIRECTORY_BASE}`,
  attributes: { objectClass: ['top', 'organizationalUnit'], ou: [name] },
});

/** Bytes that are no text, as those ids are. */
const idBytes = (n: number): Buffer =>
  Buffer.from([0xc3, 0x28, 0, 0xff, ...Array<number>(9).fill(0x80), n >> 16, (n >> 8) & 0xff, n & 0xff]);

export function person(
  n: number,
  dn: string,
  short: string,
  name: string,
  state: keyof typeof ACCOUNT = 'usable',
): StandInEntry {
  return {
    dn,
    attributes: {
      objectClass: ['top', 'person', 'organizationalPerson', 'user'],
      objectGUID: idBytes(n),
      cn: [name],
      displayName: [name],
      mail: [`${short}@saltmarsh.example`],
      sAMAccountName: [short],
      userPrincipalName: [`${short}@ad.saltmarsh.example`],
      userAccountControl: [ACCOUNT[state]],
    },
  };
}

export function group(n: number, dn: string, members: string[]): StandInEntry {
  const [, name = ''] = /^CN=([^,]*)/.exec(dn) ?? [];
  return {
    dn,
    attributes: { objectClass: ['top', 'group'], objectGUID: idBytes(n), cn: [name], member: members },
  };
}

/** Whether an entry is what a filter asks for; texts are compared without regard to case. What it does not know is no match. */
export function matches(filter: Filter, entry: StandInEntry): boolean {
  switch (filter.type) {
    case 'AndFilter':
      return (filter.filters ?? []).every((f) => matches(f, entry));
    case 'OrFilter':
      return (filter.filters ?? []).some((f) => matches(f, entry));
    case 'NotFilter':
      return filter.filter !== undefined && !matches(filter.filter, entry);
    case 'PresenceFilter':
      return valuesOf(entry, filter.attribute).length > 0;
    case 'EqualityFilter':
      return valuesAsked(filter).some((value) => valuesOf(entry, filter.attribute).includes(value));
    case 'SubstringFilter':
      return valuesOf(entry, filter.attribute).some((value) => holds(value, filter));
    default:
      return false;
  }
}

function holds(value: string, { subInitial = '', subAny = [], subFinal = '' }: Filter): boolean {
  const part = (text: string) => folded(Buffer.from(text));
  if (!value.startsWith(part(subInitial)) || !value.endsWith(part(subFinal))) return false;
  return subAny.every((text) => value.includes(part(text)));
}

/**
 * What is asked for, as it may be meant: as it is, or, because the library writes bytes that are no text as a filter does
 * when it reads them, as those bytes.
 */
function valuesAsked({ value = '' }: Filter): string[] {
  const bytes = value.replace(/\\([0-9a-f]{2})/gi, (_, digits: string) => String.fromCharCode(parseInt(digits, 16)));
  return [folded(Buffer.from(value)), bytes.toLowerCase()];
}

/** Bytes one by one, so that ids are compared as well. */
const folded = (bytes: Buffer): string => bytes.toString('latin1').toLowerCase();

function valuesOf(entry: StandInEntry, attribute = ''): string[] {
  const found = Object.entries(entry.attributes).find(([name]) => name.toLowerCase() === attribute.toLowerCase());
  if (!found) return [];
  return Buffer.isBuffer(found[1]) ? [folded(found[1])] : found[1].map((value) => folded(Buffer.from(value)));
}

/** Values of an attribute, and entries of a page, that are given at once; of the rest it is asked again. */
export const SPAN = 1500;

/** The attributes that were asked for, long ones in spans: `member;range=0-1499`. */
export function given(entry: StandInEntry, asked: readonly string[], span: number): Record<string, string[] | Buffer> {
  const all: Record<string, string[] | Buffer> = {};
  for (const wanted of asked) {
    const [name = '', range = ''] = wanted.toLowerCase().split(';range=');
    const found = Object.entries(entry.attributes).find(([key]) => key.toLowerCase() === name);
    if (!found) continue;
    const [key, values] = found;
    if (Buffer.isBuffer(values)) all[key] = values;
    else if (range === '' && values.length <= span) all[key] = values;
    else {
      const first = Number(range.split('-')[0] ?? 0) || 0;
      const last = first + span >= values.length ? '*' : String(first + span - 1);
      all[`${key};range=${first}-${last}`] = values.slice(first, first + span);
    }
  }
  return all;
}
