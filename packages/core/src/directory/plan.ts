import { countOf } from '../text/size.js';
import { dnKey, isWithin } from './dn.js';
import type { DirectoryGroup, DirectoryPerson, EntryFault } from './schema.js';

/** All that a directory says now. */
export interface DirectorySeen {
  people: DirectoryPerson[];
  groups: DirectoryGroup[];
  faults: EntryFault[];
}

/** What is taken from it. */
export interface DirectoryFollowed {
  /** Branches that are followed as a whole: who is new there gets an account. */
  branches: readonly string[];
  /** Entries that were chosen one by one. */
  chosen: ReadonlySet<string>;
  /** Entries that are to be one that is here already. */
  taken: ReadonlyMap<string, string>;
}

/** An account or a group of here that stands for an entry. */
export interface LinkedPerson {
  entryId: string;
  personId: string;
  dn: string;
  name: string;
  email: string;
  signInName: string;
  names: readonly string[];
  usable: boolean;
  /** The directory disabled it, and may enable it again. */
  gone: boolean;
  /** Without them nobody could run the server. */
  isLast: boolean;
}
export interface LinkedGroup {
  entryId: string;
  groupId: string;
  dn: string;
  name: string;
  gone: boolean;
  /** Somebody ended it here: the directory does not begin it again. */
  ended: boolean;
}

/** What is here. */
export interface DirectoryKnown {
  people: readonly LinkedPerson[];
  groups: readonly LinkedGroup[];
  /** Accounts that stand for no entry. */
  others: readonly { id: string; name: string; email: string; signInName: string; isAdmin: boolean }[];
  otherGroups: readonly { id: string; name: string }[];
  /** Who is in which group, both by their entries; `byHand`: somebody put them in, and the directory does not take them out. */
  memberships: readonly (DirectoryMembership & { byHand: boolean })[];
}

export interface DirectoryMembership {
  group: string;
  member: string;
}

interface PersonFields {
  name: string;
  email: string;
  signInName: string;
  names: readonly string[];
}

/** One thing that a run does. Entries by their ids, accounts and groups by those of here. */
export type DirectoryChange =
  | ({ kind: 'person-new'; entryId: string; dn: string } & PersonFields)
  | ({ kind: 'person-taken'; entryId: string; dn: string; personId: string } & PersonFields)
  | ({ kind: 'person-changed'; entryId: string; dn: string; personId: string; was: PersonFields } & PersonFields)
  | { kind: 'person-moved'; entryId: string; dn: string; personId: string; name: string }
  | { kind: 'person-left'; entryId: string; personId: string; name: string; disabled: boolean }
  | { kind: 'person-back'; entryId: string; personId: string; name: string }
  | { kind: 'group-new'; entryId: string; dn: string; name: string }
  | { kind: 'group-taken'; entryId: string; dn: string; groupId: string; name: string }
  | { kind: 'group-renamed'; entryId: string; dn: string; groupId: string; name: string; was: string }
  | { kind: 'group-left'; entryId: string; groupId: string; name: string }
  | { kind: 'group-back'; entryId: string; groupId: string; name: string }
  | { kind: 'joined' | 'parted'; group: string; groupName: string; member: string; memberName: string };

/** What is left as it is, and why. */
export interface DirectoryKept {
  dn: string;
  entryId: string | null;
  words: string;
  /** The account or group of here that it could be, when somebody says so. */
  couldBe: { kind: 'person' | 'group'; id: string; name: string } | null;
}

export interface DirectoryPlan {
  changes: DirectoryChange[];
  kept: DirectoryKept[];
  /** Of so many accounts that are usable by the directory, so many would be disabled. */
  leaving: { of: number; disabled: number };
  /** More than a tenth: it is asked for before it is done. */
  asks: boolean;
}

/** A run that would disable more than this part of the accounts stops and asks. */
const MOST_LEAVING = 0.1;

/**
 * What would have to change so that here is what the directory says. Entries are known by their ids, whatever they are
 * called now; who is not seen any more is disabled, never deleted. Its cost grows with the number of entries.
 */
export function directoryPlan(seen: DirectorySeen, known: DirectoryKnown, followed: DirectoryFollowed): DirectoryPlan {
  const kept: DirectoryKept[] = seen.faults.map(({ dn, fault }) => ({
    dn,
    entryId: null,
    words: fault,
    couldBe: null,
  }));
  const isFollowed = followedBy(followed);
  const people = peopleChanges(seen, known, { ...followed, isFollowed }, kept);
  const groups = groupChanges(seen, known, { ...followed, isFollowed }, kept);
  const members = memberChanges(seen, known, { people, groups }, kept);
  const disabled = people.filter((c) => c.kind === 'person-left').length;
  const of = known.people.filter((p) => p.usable).length;
  return {
    changes: [...people, ...groups, ...members],
    kept,
    leaving: { of, disabled },
    asks: disabled > of * MOST_LEAVING,
  };
}

type Followed = DirectoryFollowed & { isFollowed: (entry: { id: string; dn: string }) => boolean };

function followedBy({ branches, chosen, taken }: DirectoryFollowed): Followed['isFollowed'] {
  const keys = branches.map(dnKey).filter((key): key is string => key !== null);
  return ({ id, dn }) => {
    const key = dnKey(dn);
    return chosen.has(id) || taken.has(id) || (key !== null && keys.some((branch) => isWithin(key, branch)));
  };
}

function peopleChanges(
  seen: DirectorySeen,
  known: DirectoryKnown,
  followed: Followed,
  kept: DirectoryKept[],
): DirectoryChange[] {
  const linked = new Map(known.people.map((p) => [p.entryId, p]));
  const names = new Names(known);
  const changes: DirectoryChange[] = [];
  const there = new Set<string>();
  for (const person of seen.people) {
    there.add(person.id);
    const here = linked.get(person.id);
    if (here) changes.push(...changesOf(person, here, names, kept));
    else if (followed.isFollowed(person) && !person.disabled) {
      const change = newPerson(person, followed, names, kept);
      if (change) changes.push(change);
    }
  }
  // An entry that cannot be read any more as somebody is there all the same.
  const unread = new Set(seen.faults.map((f) => dnKey(f.dn)));
  for (const here of known.people)
    if (!there.has(here.entryId) && !unread.has(dnKey(here.dn))) changes.push(...left(here, false, kept));
  return changes;
}

/** Names to sign in by and addresses that are in use, and whose. */
class Names {
  private readonly signIn = new Map<string, string>();
  private readonly mail = new Map<string, string>();
  /** Accounts that stand for no entry, by their ids. */
  readonly others: ReadonlyMap<string, DirectoryKnown['others'][number]>;

  constructor(known: DirectoryKnown) {
    this.others = new Map(known.others.map((p) => [p.id, p]));
    for (const p of known.others) this.take(p.id, p.signInName, p.email);
    for (const p of known.people) this.take(p.entryId, p.signInName, p.email);
  }

  take(id: string, signInName: string, email: string): void {
    if (!this.signIn.has(signInName)) this.signIn.set(signInName, id);
    if (!this.mail.has(email.toLowerCase())) this.mail.set(email.toLowerCase(), id);
  }

  /** Whoever has one of both already; null: nobody else. */
  holder(id: string, signInName: string, email: string): { id: string; by: 'name' | 'mail' } | null {
    const byName = this.signIn.get(signInName);
    if (byName !== undefined && byName !== id) return { id: byName, by: 'name' };
    const byMail = this.mail.get(email.toLowerCase());
    return byMail !== undefined && byMail !== id ? { id: byMail, by: 'mail' } : null;
  }
}

function newPerson(
  person: DirectoryPerson,
  { taken }: DirectoryFollowed,
  names: Names,
  kept: DirectoryKept[],
): DirectoryChange | null {
  const { id: entryId, dn, name, email, signInName } = person;
  const fields = { name, email, signInName, names: person.names };
  const chosen = names.others.get(taken.get(entryId) ?? '');
  const account = chosen?.isAdmin ? undefined : chosen;
  const clash = names.holder(account?.id ?? entryId, signInName, email);
  if (account && !clash) {
    names.take(account.id, signInName, email);
    return { kind: 'person-taken', entryId, dn, personId: account.id, ...fields };
  }
  if (!clash) {
    names.take(entryId, signInName, email);
    return { kind: 'person-new', entryId, dn, ...fields };
  }
  const other = names.others.get(clash.id);
  kept.push({ dn, entryId, ...clashWords(name, clash.by === 'name' ? signInName : email, other) });
  return null;
}

function clashWords(
  name: string,
  what: string,
  other: DirectoryKnown['others'][number] | undefined,
): Pick<DirectoryKept, 'words' | 'couldBe'> {
  if (!other) return { words: `${name}: another entry of the directory has ${what} too.`, couldBe: null };
  // Whoever runs the directory would be the admin; and there would be no way in while it is away.
  if (other.isAdmin)
    return {
      words: `${name}: the admin ${other.name} has ${what} here, and keeps a password of their own.`,
      couldBe: null,
    };
  return {
    words: `${name}: ${other.name} has ${what} here already. Are they the same?`,
    couldBe: { kind: 'person', id: other.id, name: other.name },
  };
}

function changesOf(
  person: DirectoryPerson,
  here: LinkedPerson,
  names: Names,
  kept: DirectoryKept[],
): DirectoryChange[] {
  if (person.disabled) return left(here, true, kept);
  const { id: entryId, dn } = person;
  const of = { entryId, personId: here.personId };
  const changes: DirectoryChange[] = [];
  if (here.gone) changes.push({ kind: 'person-back', ...of, name: person.name });
  const fields = (p: PersonFields): PersonFields => ({
    ...{ name: p.name, email: p.email, signInName: p.signInName },
    names: [...p.names].sort(),
  });
  const [now, was] = [fields(person), fields(here)];
  if (JSON.stringify(now) !== JSON.stringify(was)) {
    const clash = names.holder(entryId, now.signInName, now.email);
    if (clash) {
      const words = `${here.name} stays as they are: somebody else has ${clash.by === 'name' ? now.signInName : now.email} already.`;
      kept.push({ dn, entryId, words, couldBe: null });
    } else {
      names.take(entryId, now.signInName, now.email);
      changes.push({ kind: 'person-changed', ...of, dn, ...now, was });
    }
  } else if (dnKey(dn) !== dnKey(here.dn)) changes.push({ kind: 'person-moved', ...of, dn, name: here.name });
  return changes;
}

function left(here: LinkedPerson, disabled: boolean, kept: DirectoryKept[]): DirectoryChange[] {
  if (here.gone || !here.usable) return [];
  const { entryId, personId, name, dn } = here;
  if (!here.isLast) return [{ kind: 'person-left', entryId, personId, name, disabled }];
  const words = `${name} is not there any more, but is the last one who can run the server.`;
  kept.push({ dn, entryId, words, couldBe: null });
  return [];
}

function groupChanges(
  seen: DirectorySeen,
  known: DirectoryKnown,
  followed: Followed,
  kept: DirectoryKept[],
): DirectoryChange[] {
  const linked = new Map(known.groups.map((g) => [g.entryId, g]));
  const names = new Map([
    ...known.otherGroups.map((g) => [g.name, g.id] as const),
    ...known.groups.map((g) => [g.name, g.entryId] as const),
  ]);
  const others = new Map(known.otherGroups.map((g) => [g.name, g]));
  const changes: DirectoryChange[] = [];
  const there = new Set<string>();
  for (const group of seen.groups) {
    const { id: entryId, dn, name } = group;
    there.add(entryId);
    const here = linked.get(entryId);
    if (here?.ended) continue;
    const other = others.get(name);
    const holder = names.get(name);
    const isFree = holder === undefined || holder === entryId;
    if (here?.gone) changes.push({ kind: 'group-back', entryId, groupId: here.groupId, name: here.name });
    if (here && here.name === name) continue;
    if (!here && !followed.isFollowed(group)) continue;
    if (!here && other && followed.taken.get(entryId) === other.id)
      changes.push({ kind: 'group-taken', entryId, dn, groupId: other.id, name });
    else if (!isFree) {
      const couldBe = !here && other ? { kind: 'group' as const, id: other.id, name } : null;
      const words = `There is a group called ${name} already.${couldBe ? ' Are they the same?' : ''}`;
      kept.push({ dn, entryId, words, couldBe });
    } else if (here) changes.push({ kind: 'group-renamed', entryId, dn, groupId: here.groupId, name, was: here.name });
    else changes.push({ kind: 'group-new', entryId, dn, name });
    if (isFree) names.set(name, entryId);
  }
  for (const { entryId, groupId, name, gone, ended } of known.groups)
    if (!there.has(entryId) && !gone && !ended) changes.push({ kind: 'group-left', entryId, groupId, name });
  return changes;
}

/** Accounts that can be used, or groups, after the changes: what they are called, by their entries. */
function hereAfter(
  known: readonly { entryId: string; name: string }[],
  changes: readonly DirectoryChange[],
): Map<string, string> {
  const here = new Map(known.map((k) => [k.entryId, k.name]));
  for (const change of changes)
    if (change.kind === 'person-left') here.delete(change.entryId);
    else if ('entryId' in change) here.set(change.entryId, change.name);
  return here;
}

function memberChanges(
  seen: DirectorySeen,
  known: DirectoryKnown,
  changes: { people: readonly DirectoryChange[]; groups: readonly DirectoryChange[] },
  kept: DirectoryKept[],
): DirectoryChange[] {
  const usable = known.people.filter((p) => p.usable);
  const people = hereAfter(usable, changes.people);
  const groups = hereAfter(
    known.groups.filter((g) => !g.ended),
    changes.groups,
  );
  const names = new Map([...known.people, ...known.groups].map((k) => [k.entryId, k.name]));
  const nameOf = (entryId: string): string => people.get(entryId) ?? groups.get(entryId) ?? names.get(entryId) ?? '';
  const wanted = withoutCircles(membershipsSaid(seen, people, groups), groups, kept, seen);
  const key = (m: DirectoryMembership): string => `${m.group} ${m.member}`;
  const [after, before] = [new Set(wanted.map(key)), new Set(known.memberships.map(key))];
  const change =
    (kind: 'joined' | 'parted') =>
    (m: DirectoryMembership): DirectoryChange => ({
      ...{ kind, group: m.group, groupName: nameOf(m.group), member: m.member, memberName: nameOf(m.member) },
    });
  return [
    ...wanted.filter((m) => !before.has(key(m))).map(change('joined')),
    ...known.memberships.filter((m) => !m.byHand && !after.has(key(m))).map(change('parted')),
  ];
}

/** Who is in which group, said by the group or by whoever is in it; both ends are here. */
function membershipsSaid(
  seen: DirectorySeen,
  people: ReadonlyMap<string, string>,
  groups: ReadonlyMap<string, string>,
): DirectoryMembership[] {
  const byDn = new Map<string, string>();
  const bySignIn = new Map<string, string>();
  for (const entry of [...seen.people, ...seen.groups]) byDn.set(dnKey(entry.dn) ?? entry.dn, entry.id);
  for (const person of seen.people)
    for (const name of [person.signInName, ...person.names]) bySignIn.set(name, person.id);
  const isHere = (id: string | undefined): id is string => id !== undefined && (people.has(id) || groups.has(id));
  const found = new Map<string, DirectoryMembership>();
  const add = (group: string | undefined, member: string | undefined) => {
    if (group !== undefined && groups.has(group) && isHere(member) && group !== member)
      found.set(`${group} ${member}`, { group, member });
  };
  for (const group of seen.groups)
    for (const member of group.members)
      add(group.id, byDn.get(dnKey(member) ?? member) ?? bySignIn.get(member.toLowerCase()));
  for (const entry of [...seen.people, ...seen.groups])
    for (const group of entry.memberOf) add(byDn.get(dnKey(group) ?? group), entry.id);
  return [...found.values()];
}

/** The same without those that would put a group into itself, round about. */
function withoutCircles(
  said: readonly DirectoryMembership[],
  groups: ReadonlyMap<string, string>,
  kept: DirectoryKept[],
  seen: DirectorySeen,
): DirectoryMembership[] {
  const within = new Map<string, string[]>();
  const dns = new Map(seen.groups.map((g) => [g.id, g.dn]));
  const reaches = (from: string, to: string): boolean => {
    const open = [from];
    const been = new Set<string>();
    for (let id = open.pop(); id !== undefined; id = open.pop()) {
      if (id === to) return true;
      if (been.has(id)) continue;
      been.add(id);
      open.push(...(within.get(id) ?? []));
    }
    return false;
  };
  return said.filter(({ group, member }) => {
    if (!groups.has(member)) return true;
    if (!reaches(member, group)) {
      within.set(group, [...(within.get(group) ?? []), member]);
      return true;
    }
    const words = `${groups.get(member)} is not put into ${groups.get(group)}: the directory has them in each other.`;
    kept.push({ dn: dns.get(member) ?? '', entryId: member, words, couldBe: null });
    return false;
  });
}

/** What a change does, as a sentence about whom it concerns. */
export function directoryChangeWords(change: DirectoryChange): string {
  switch (change.kind) {
    case 'person-new':
      return `${change.name} gets an account, and signs in as ${change.signInName}.`;
    case 'person-taken':
      return `${change.name} signs in by the directory from now on, as ${change.signInName}.`;
    case 'person-changed':
      return `${change.was.name}: ${fieldsWords(change)}.`;
    case 'person-moved':
      return `${change.name} stands in another place there: ${change.dn}.`;
    case 'person-left':
      return change.disabled
        ? `${change.name} is disabled there, and then here.`
        : `${change.name} is not there any more, and is disabled here.`;
    case 'person-back':
      return `${change.name} is there again, and is enabled.`;
    case 'group-new':
      return `The group ${change.name} is made.`;
    case 'group-taken':
      return `The group ${change.name} has whoever the directory says, beside those put in by hand.`;
    case 'group-renamed':
      return `The group ${change.was} becomes ${change.name}.`;
    case 'group-left':
      return `The group ${change.name} is not there any more, and loses whom it had by the directory.`;
    case 'group-back':
      return `The group ${change.name} is there again.`;
    case 'joined':
      return `${change.memberName} comes into ${change.groupName}.`;
    case 'parted':
      return `${change.memberName} leaves ${change.groupName}.`;
  }
}

function fieldsWords({ was, ...now }: Extract<DirectoryChange, { kind: 'person-changed' }>): string {
  const said = [
    now.name !== was.name ? `is called ${now.name}` : '',
    now.email !== was.email ? `has the address ${now.email}` : '',
    now.signInName !== was.signInName ? `signs in as ${now.signInName}` : '',
  ].filter(Boolean);
  return said.length > 0 ? said.join(', ') : `signs in also as ${now.names.join(', ') || 'nobody else'}`;
}

const KINDS: [DirectoryChange['kind'][], (count: number) => string][] = [
  [['person-new'], (n) => countOf(n, 'new', 'new')],
  [['person-taken'], (n) => countOf(n, 'taken over', 'taken over')],
  [['person-back'], (n) => countOf(n, 'back', 'back')],
  [['person-changed'], (n) => countOf(n, 'changed', 'changed')],
  [['person-moved'], (n) => countOf(n, 'moved', 'moved')],
  [['person-left'], (n) => countOf(n, 'disabled', 'disabled')],
  [['group-new', 'group-taken', 'group-renamed', 'group-left', 'group-back'], (n) => countOf(n, 'group')],
  [['joined'], (n) => `${countOf(n, 'person', 'people')} into groups`],
  [['parted'], (n) => countOf(n, 'out of groups', 'out of groups')],
];

/** What a run does, in a line: "3 new, 1 disabled". */
export function directoryPlanWords(changes: readonly Pick<DirectoryChange, 'kind'>[]): string {
  const said = KINDS.map(([kinds, words]) => [changes.filter((c) => kinds.includes(c.kind)).length, words] as const)
    .filter(([count]) => count > 0)
    .map(([count, words]) => words(count));
  return said.length > 0 ? said.join(', ') : 'nothing to change';
}
