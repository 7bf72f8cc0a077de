import { SIGN_IN_NAME, signInNameFor } from '../setup/names.js';

/** By which attributes a directory says what of its entries. Of several, the first that an entry has counts. */
export interface DirectorySchema {
  /** Filters as RFC 4515 writes them. */
  personFilter: string;
  groupFilter: string;
  /** What never changes of an entry, whatever it is renamed to. */
  idAttribute: string;
  nameAttributes: string[];
  emailAttributes: string[];
  signInAttributes: string[];
  /** By what they may sign in as well. */
  alsoAttributes: string[];
  groupNameAttributes: string[];
  memberAttributes: string[];
  /** On a member: the groups that it is in. Empty: the directory does not say. */
  memberOfAttribute: string;
  /** Says that an account is disabled; empty: the directory does not say. */
  disabledAttribute: string;
  /** The bit of it that says so; null: that it is there at all, and is not FALSE. */
  disabledBit: number | null;
}

export const DIRECTORY_PRESETS = ['person', 'domain'] as const;
export type DirectoryPreset = (typeof DIRECTORY_PRESETS)[number];

/** The two schemas that are common. */
export const DIRECTORY_SCHEMAS: Record<DirectoryPreset, DirectorySchema> = {
  // People by inetOrgPerson (RFC 2798), groups by RFC 4519 and RFC 2307, ids by RFC 4530; that an account is locked, by
  // draft-behera-ldap-password-policy (from memory).
  person: {
    personFilter: '(objectClass=inetOrgPerson)',
    groupFilter: '(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))',
    idAttribute: 'entryUUID',
    nameAttributes: ['displayName', 'cn'],
    emailAttributes: ['mail'],
    signInAttributes: ['uid'],
    alsoAttributes: [],
    groupNameAttributes: ['cn'],
    memberAttributes: ['member', 'uniqueMember', 'memberUid'],
    memberOfAttribute: 'memberOf',
    disabledAttribute: 'pwdAccountLockedTime',
    disabledBit: null,
  },
  // Domain controllers: attributes as their published schema names them, 0x2 of userAccountControl is a disabled account
  // (from memory).
  domain: {
    personFilter: '(&(objectClass=user)(!(objectClass=computer)))',
    groupFilter: '(objectClass=group)',
    idAttribute: 'objectGUID',
    nameAttributes: ['displayName', 'cn'],
    emailAttributes: ['mail', 'userPrincipalName'],
    signInAttributes: ['sAMAccountName'],
    alsoAttributes: ['userPrincipalName'],
    groupNameAttributes: ['cn'],
    memberAttributes: ['member'],
    memberOfAttribute: 'memberOf',
    disabledAttribute: 'userAccountControl',
    disabledBit: 2,
  },
};

export const SCHEMA_WORDS: Record<DirectoryPreset, string> = {
  person: 'uid, cn and entryUUID, as most directories on Unix',
  domain: 'sAMAccountName and objectGUID, as domain controllers',
};

/** Every attribute that is asked for. */
export function attributesOf(schema: DirectorySchema): string[] {
  const named = [
    schema.idAttribute,
    ...[...schema.nameAttributes, ...schema.emailAttributes, ...schema.signInAttributes, ...schema.alsoAttributes],
    ...[...schema.groupNameAttributes, ...schema.memberAttributes],
    ...[schema.memberOfAttribute, schema.disabledAttribute],
  ];
  return [...new Set(named.filter(Boolean))];
}

/** An entry as a directory gives it. Attributes by their names in small letters. */
export interface DirectoryEntry {
  dn: string;
  id: string;
  attributes: ReadonlyMap<string, readonly string[]>;
}

/** Somebody of a directory. */
export interface DirectoryPerson {
  id: string;
  dn: string;
  name: string;
  email: string;
  signInName: string;
  /** By what they sign in as well, in small letters. */
  names: string[];
  disabled: boolean;
  /** The names of the groups that they say they are in. */
  memberOf: string[];
}

export interface DirectoryGroup {
  id: string;
  dn: string;
  name: string;
  /** Distinguished names, or names that people sign in by. */
  members: string[];
  memberOf: string[];
}

/** What an entry lacks to be somebody here, in words. */
export interface EntryFault {
  dn: string;
  fault: string;
}

const NAME_MOST = 80;
const MAIL = /^[^\s@<>(),;:\\"[\]]+@[^\s@<>(),;:\\"[\]]+$/;

const valuesOf = (entry: DirectoryEntry, attribute: string): readonly string[] =>
  attribute === '' ? [] : (entry.attributes.get(attribute.toLowerCase()) ?? []);
const firstOf = (entry: DirectoryEntry, attributes: readonly string[]): string =>
  attributes.map((a) => oneLine(valuesOf(entry, a)[0] ?? '')).find((value) => value !== '') ?? '';
const oneLine = (text: string): string => text.replace(/[\p{Cc}\p{Cf}\s]+/gu, ' ').trim();

/** Somebody out of an entry. @returns a fault where it lacks what an account needs */
export function personOf(entry: DirectoryEntry, schema: DirectorySchema): DirectoryPerson | EntryFault {
  const fault = (words: string): EntryFault => ({ dn: entry.dn, fault: words });
  const name = firstOf(entry, schema.nameAttributes).slice(0, NAME_MOST);
  if (name === '') return fault('It has no name.');
  const email = firstOf(entry, schema.emailAttributes);
  if (email === '') return fault('It has no mail address.');
  if (!MAIL.test(email) || email.length > 254) return fault('Its mail address is none.');
  const typed = firstOf(entry, schema.signInAttributes).toLowerCase();
  const signInName = SIGN_IN_NAME.test(typed) ? typed : signInNameFor(typed) || signInNameFor(name);
  if (signInName === '') return fault('Nothing of it can be typed as a name to sign in by.');
  const also = schema.alsoAttributes.flatMap((a) => valuesOf(entry, a)).map((value) => oneLine(value).toLowerCase());
  const names = [...new Set([typed, ...also].filter((n) => n !== '' && n !== signInName))];
  const memberOf = [...valuesOf(entry, schema.memberOfAttribute)];
  return { id: entry.id, dn: entry.dn, name, email, signInName, names, disabled: isDisabled(entry, schema), memberOf };
}

/** A group out of an entry. @returns a fault where it has no name */
export function groupOf(entry: DirectoryEntry, schema: DirectorySchema): DirectoryGroup | EntryFault {
  const name = firstOf(entry, schema.groupNameAttributes).slice(0, NAME_MOST);
  if (name === '') return { dn: entry.dn, fault: 'It has no name.' };
  const members = schema.memberAttributes.flatMap((a) => valuesOf(entry, a));
  return { id: entry.id, dn: entry.dn, name, members, memberOf: [...valuesOf(entry, schema.memberOfAttribute)] };
}

function isDisabled(entry: DirectoryEntry, { disabledAttribute, disabledBit }: DirectorySchema): boolean {
  const [value] = valuesOf(entry, disabledAttribute);
  if (value === undefined) return false;
  if (disabledBit === null) return value.toUpperCase() !== 'FALSE';
  const flags = Number(value);
  return Number.isInteger(flags) && (flags & disabledBit) !== 0;
}

/**
 * A value within a filter, so that nothing of it is read as part of the filter (RFC 4515 §3).
 */
export const filterValue = (text: string): string =>
  // eslint-disable-next-line no-control-regex
  text.replace(/[\\*()\u0000]/g, (c) => `\\${c.charCodeAt(0).toString(16).padStart(2, '0')}`);

/**
 * What is asked for when entries are looked for by a word: those of the filter in whose names or addresses it stands.
 */
export function searchFilter(filter: string, attributes: readonly string[], word: string): string {
  if (word.trim() === '') return filter;
  const value = filterValue(word.trim());
  return `(&${filter}(|${attributes.map((a) => `(${a}=*${value}*)`).join('')}))`;
}

/** The id of an entry as a text: a text as it is (entryUUID, RFC 4530), of bytes `#` and their digits (objectGUID). */
export function entryId(bytes: Uint8Array): string {
  const text = [...bytes].map((byte) => String.fromCharCode(byte)).join('');
  if (/^[A-Za-z0-9][\x21-\x7e]{16,127}$/.test(text)) return text.toLowerCase();
  return `#${[...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('')}`;
}

/** The bytes by which the entry of an id is asked for. */
export const idBytes = (id: string): Uint8Array =>
  id.startsWith('#')
    ? new Uint8Array((id.slice(1).match(/../g) ?? []).map((digits) => parseInt(digits, 16)))
    : new TextEncoder().encode(id);

/** The span of values that an attribute was given in: `member;range=0-1499`; null: all of them. Last is null at the end. */
export function rangeOf(attribute: string): { name: string; first: number; last: number | null } | null {
  const found = /^([^;]+);range=(\d+)-(\d+|\*)$/i.exec(attribute);
  if (!found) return null;
  const [, name, first, last] = found as unknown as [string, string, string, string];
  return { name, first: Number(first), last: last === '*' ? null : Number(last) };
}
