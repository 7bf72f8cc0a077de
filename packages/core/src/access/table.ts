import type { Instant } from '../text/when.js';
import { ACCESS_LEVELS, type AccessLevel } from './access.js';
import { actBits, actsOf, actsOfBits, ARCHIVED_ACTS, levelOfActs, type LevelActs } from './acts.js';
import { countedOf, isArchived, othersRuleAt } from './effective.js';
import { holdsAt } from './period.js';
import { chainOf, type RootFolder } from './reach-of.js';
import { isGuestAt, type Asker } from './subjects.js';

/** Acts as bits: on everything, and on what somebody has brought themselves. */
export interface Cell {
  acts: number;
  own: number;
  /** Something was granted on this very folder to them, and not to a group that they are in. */
  here: boolean;
}

/** What everybody may do in every folder that has facts of its own, at one moment. */
export interface AccessTable {
  /** Ids of the folders, in the order of each row. */
  folders: string[];
  /** By the id of whoever asks: for each folder the acts, seven bits higher the own ones, then whether it is here. */
  rows: Map<string, Uint16Array>;
}

const OWN_SHIFT = 7;
const HERE = 1 << 14;
const ACT_BITS = (1 << OWN_SHIFT) - 1;

const EVERYTHING: Gives = bitsOf(actsOf('manage', 'read'));
const NOTHING: Cell = { acts: 0, own: 0, here: false };
const STAFF = 'staff';

interface Gives {
  acts: number;
  own: number;
}

/** A folder at one moment: what it gives to whom, whoever that may be. */
interface Giving {
  /** By the key of a subject; `here`: granted on this very folder. */
  to: Map<string, Cell>;
  admin: Gives;
  owners: ReadonlySet<string>;
  /** What is left of everything. */
  mask: number;
}

/**
 * What `effectiveAccess` says of everybody in every folder at one moment, without reasons: each folder's grants are put
 * together once, and handed on to whoever is meant. A test compares the two.
 */
export function accessTable(
  roots: ReadonlyMap<string, RootFolder>,
  askers: readonly Asker[],
  at: Instant,
): AccessTable {
  const folders = [...roots.keys()];
  const rows = new Map(askers.map((asker) => [asker.personId, new Uint16Array(folders.length)]));
  const usable = askers.filter((asker) => asker.account.some((s) => holdsAt(s, at)));
  const meant = new Map<string, Meant[]>();
  for (const asker of usable)
    for (const key of keysOf(asker, at)) {
      const one = { row: rows.get(asker.personId) as Uint16Array, isItself: key === asker.personId };
      const there = meant.get(key);
      if (there) there.push(one);
      else meant.set(key, [one]);
    }
  const admins = usable.filter((asker) => asker.admin.some((s) => holdsAt(s, at)));
  for (const [i, id] of folders.entries()) {
    const { to, admin, owners, mask } = givingOf(roots, id, at);
    for (const [key, { acts, own, here }] of to)
      for (const { row, isItself } of meant.get(key) ?? [])
        row[i] = (row[i] ?? 0) | packed(acts & mask, own & mask) | (here && isItself ? HERE : 0);
    const stand = (asker: Asker, gives: Gives) => {
      const row = rows.get(asker.personId) as Uint16Array;
      row[i] = (row[i] ?? 0) | packed(gives.acts & mask, gives.own & mask);
    };
    for (const asker of admins) stand(asker, admin);
    if (owners.size > 0) for (const asker of usable) if (owners.has(asker.personId)) stand(asker, EVERYTHING);
  }
  return { folders, rows };
}

/** A row of the table, for whom a key stands. */
interface Meant {
  row: Uint16Array;
  /** The key is theirs, and no group's. */
  isItself: boolean;
}

const packed = (acts: number, own: number): number => acts | (own << OWN_SHIFT);

/** What a row says of a folder. */
export function cellAt(row: Uint16Array | undefined, i: number): Cell {
  const bits = row?.[i] ?? 0;
  return { acts: bits & ACT_BITS, own: (bits >> OWN_SHIFT) & ACT_BITS, here: (bits & HERE) !== 0 };
}

function bitsOf({ all, own }: LevelActs): Gives {
  const acts = actBits(all);
  return { acts, own: acts | actBits(own) };
}

/** By what somebody may be granted something at that moment. */
function keysOf(asker: Asker, at: Instant): string[] {
  const groups = new Set(asker.groups.filter((g) => holdsAt(g, at)).map((g) => g.groupId));
  return [asker.personId, ...groups, ...(isGuestAt(asker, at) ? [] : [STAFF])];
}

function givingOf(roots: ReadonlyMap<string, RootFolder>, id: string, at: Instant): Giving {
  const chain = chainOf(roots, id);
  const { store } = roots.get(id) as RootFolder;
  const mask = isArchived(store, at) ? actBits(ARCHIVED_ACTS) : EVERYTHING.acts;
  const isHome = store.kind === 'home';
  const owners = new Set(isHome ? store.owners.filter((o) => holdsAt(o, at)).map((o) => o.personId) : []);
  const counted = countedOf(chain, at);
  const manageOnly = actBits(['manage']);
  const admin =
    store.kind !== 'common'
      ? NOTHING
      : counted.length === chain.length
        ? EVERYTHING
        : { acts: manageOnly, own: manageOnly };
  const to = new Map<string, Cell>();
  if (isHome) return { to, admin, owners, mask };
  const others = othersRuleAt(chain, at);
  for (const folder of counted)
    for (const grant of folder.grants) {
      if (!holdsAt(grant, at)) continue;
      const key = grant.subject.kind === 'staff' ? STAFF : grant.subject.id;
      const { acts, own } = bitsOf(actsOf(grant.level, others));
      const before = to.get(key) ?? NOTHING;
      const here = before.here || folder.id === id;
      to.set(key, { acts: before.acts | acts, own: before.own | own, here });
    }
  return { to, admin, owners, mask };
}

/** The level that says best what a cell is; null: nothing that shows. */
export const levelOfCell = ({ acts, own }: Pick<Cell, 'acts' | 'own'>): AccessLevel | null =>
  levelOfActs(actsOfBits(acts)) ?? (actsOfBits(own).includes('add') ? 'contribute' : null);

/** Past a folder that takes nothing over, the admin says who reaches it and does nothing else in it. */
export const onlyManages = ({ acts }: Pick<Cell, 'acts'>): boolean => acts === actBits(['manage']);

/** A cell as it is shown. */
export interface CellSign {
  level: AccessLevel | null;
  /** Granted on this very folder. */
  here: boolean;
  onlyManages: boolean;
}

/**
 * A cell as one character: `.` nothing; v, d, c, e, m: the level, taken over from above or by a group above; as a capital:
 * granted on this very folder; `k`: only says who reaches it.
 */
export function cellSign(cell: Cell): string {
  if (onlyManages(cell)) return 'k';
  const initial = levelOfCell(cell)?.charAt(0) ?? '.';
  return cell.here ? initial.toUpperCase() : initial;
}

/** What such a character says. */
export function readCellSign(sign: string): CellSign {
  const lower = sign.toLowerCase();
  const level = ACCESS_LEVELS.find((l) => l.startsWith(lower)) ?? null;
  return { level, here: level !== null && lower !== sign, onlyManages: sign === 'k' };
}

/** Another level somewhere than before. */
export interface AccessShift {
  personId: string;
  folderId: string;
  was: Cell;
  is: Cell;
  /** How many folders in it shift alike. */
  below: number;
}

/**
 * What differs between two tables, told where it begins: a folder that shifts as the one it lies in is counted there.
 * @param above the nearest folder with facts above each, as the second table has it
 */
export function tableShifts(
  before: AccessTable,
  after: AccessTable,
  above: (folderId: string) => string | null,
): AccessShift[] {
  const folders = [...new Set([...after.folders, ...before.folders])];
  const [then, now] = [placesIn(before, folders, above), placesIn(after, folders, above)];
  const people = new Set([...before.rows.keys(), ...after.rows.keys()]);
  return [...people].flatMap((personId) => {
    const [was, is] = [before.rows.get(personId), after.rows.get(personId)];
    const shifts = new Map<string, AccessShift>();
    for (const [n, folderId] of folders.entries()) {
      const [i, j] = [then[n] as number, now[n] as number];
      if (((was?.[i] ?? 0) & ~HERE) !== ((is?.[j] ?? 0) & ~HERE))
        shifts.set(folderId, { personId, folderId, was: cellAt(was, i), is: cellAt(is, j), below: 0 });
    }
    return shifts.size === 0 ? [] : beginnings(shifts, above);
  });
}

/** Where each folder stands in a table: what is no folder with facts of its own there fares as the one above it; else -1. */
function placesIn(table: AccessTable, folders: readonly string[], above: (id: string) => string | null): number[] {
  const place = new Map(table.folders.map((id, i) => [id, i]));
  return folders.map((folderId) => {
    let id: string | null = folderId;
    while (id !== null && !place.has(id)) id = above(id);
    return id === null ? -1 : (place.get(id) as number);
  });
}

function beginnings(shifts: ReadonlyMap<string, AccessShift>, above: (id: string) => string | null): AccessShift[] {
  const begins = (shift: AccessShift): AccessShift => {
    const over = above(shift.folderId);
    const upper = over === null ? undefined : shifts.get(over);
    return upper && sameShift(upper, shift) ? begins(upper) : shift;
  };
  const found = new Map<string, AccessShift>();
  for (const shift of shifts.values()) {
    const first = begins(shift);
    const known = found.get(first.folderId) ?? { ...first };
    if (first !== shift) known.below += 1;
    found.set(first.folderId, known);
  }
  return [...found.values()];
}

const sameShift = (a: AccessShift, b: AccessShift): boolean =>
  a.was.acts === b.was.acts && a.was.own === b.was.own && a.is.acts === b.is.acts && a.is.own === b.is.own;

/** A group as if it asked: what whoever joins it gets by that alone. */
export const groupAsker = (id: string, over: Asker['groups']): Asker => ({
  personId: id,
  // What is granted to all staff is nobody's by a group.
  guest: [{ since: -Infinity, until: null }],
  account: [{ since: -Infinity, until: null }],
  admin: [],
  groups: over,
});

/** What shifts come to, in one sentence: how many people may more, and how many less. */
export function shiftWords(
  shifts: readonly { person: { id: string }; was: AccessLevel | null; is: AccessLevel | null }[],
): string {
  const rank = (level: AccessLevel | null) => (level === null ? -1 : ACCESS_LEVELS.indexOf(level));
  const who = (which: (was: number, is: number) => boolean) =>
    new Set(shifts.filter((s) => which(rank(s.was), rank(s.is))).map((s) => s.person.id)).size;
  const gain = who((was, is) => is > was);
  const lose = who((was, is) => is < was);
  if (gain + lose === 0) return shifts.length === 0 ? 'Nothing changes for anybody.' : 'Nobody gets another level.';
  const part = (count: number, one: string, many: string) =>
    count === 1 ? `1 person ${one}` : `${count} people ${many}`;
  return [gain > 0 ? part(gain, 'gains', 'gain') : '', lose > 0 ? part(lose, 'loses', 'lose') : '']
    .filter(Boolean)
    .join(', ')
    .concat('.');
}
