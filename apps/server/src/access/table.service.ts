import type {
  AccessMoments,
  AccessShifts,
  AccessTableAnswer,
  AccessTrial,
  ShiftRow,
  ShiftsBetween,
  TableFolder,
  TableRow,
} from '@quay/contract';
import {
  accessTable,
  actBits,
  cellAt,
  cellSign,
  holdsAt,
  levelOfCell,
  shiftWords,
  tableShifts,
  type AccessTable,
  type Asker,
  type RootFolder,
} from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField } from '../platform/problems/problem.js';
import { loadAskers, loadGroupAskers, loadRoots, loadRootsAt } from './access-facts.js';
import { lockAccess } from './access-lock.js';
import { ensureReach } from './access-reach.js';
import { reachedPlaces } from './access.queries.js';
import { GrantsService } from './grants.service.js';
import { GroupsService } from './groups.service.js';
import { momentToCome } from './reached.service.js';
import { accessMoments, folderNames, peopleAt } from './table.queries.js';

/** How far back the moments go that are offered. */
const OFFERED_MS = 120 * 86_400_000;
/** Shifts that are listed; of the others it is said how many there are. */
const LISTED = 200;
/** What the ledger calls changes of who may what. */
const CHANGES = [
  ...['granted', 'regranted', 'ended', 'closed', 'opened', 'rule'].map((what) => `access.${what}`),
  ...['made', 'ended', 'joined', 'left'].map((what) => `group.${what}`),
  ...['added', 'made-admin', 'role', 'disabled', 'enabled', 'ended'].map((what) => `person.${what}`),
  'home.handed-over',
];
const STAFF_ROW = 'staff';
/** Whom all staff is granted something as. */
const STAFF: Asker = {
  personId: STAFF_ROW,
  guest: [],
  account: [{ since: -Infinity, until: null }],
  admin: [],
  groups: [],
};
const MAY_KNOW = actBits(['see', 'manage']);

/** Everything at one moment. */
interface Whole {
  roots: Map<string, RootFolder>;
  table: AccessTable;
}

/** Thrown to take back what was only tried. */
class Tried extends Error {
  constructor(readonly shifts: AccessShifts) {
    super('tried');
  }
}

/** Who reaches what: now, at any moment, between two, and after a change that is only tried. */
@Injectable()
export class TableService {
  private openByLinks: (m: EntityManager, at: Date) => Promise<ReadonlySet<string>> = () => Promise.resolve(new Set());

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly grants: GrantsService,
    private readonly groups: GroupsService,
  ) {}

  /** Names folders in which something goes out by links that are open, for whoever holds one. */
  tellOfLinks(ask: (m: EntityManager, at: Date) => Promise<ReadonlySet<string>>): void {
    this.openByLinks = ask;
  }

  /** @param moment RFC 3339; left out: now */
  async table(who: Who, moment: string | undefined): Promise<AccessTableAnswer> {
    const m = this.db.manager;
    const at = this.momentOf(moment);
    const roots = await this.rootsAt(m, moment === undefined ? null : at);
    const folders = await this.foldersFor(who, roots, moment === undefined ? null : at);
    const people = await peopleAt(m, at);
    const askers = await loadAskers(
      m,
      people.map((p) => p.id),
    );
    const groups = (await loadGroupAskers(m, null)).filter((g) => holdsAt(g, at.getTime()));
    const shown = new Map(folders.map((f) => [f.id, roots.get(f.id) as RootFolder]));
    // The folders that are not shown decide about those that are.
    const all = accessTable(roots, [...groups.map((g) => g.asker), STAFF, ...askers], at.getTime());
    const columns = all.folders.flatMap((id, i) => (shown.has(id) ? [{ id, i }] : []));
    const order = folders.map((f) => columns.find((c) => c.id === f.id)?.i as number);
    const signs = new Map<number, string>();
    const row = (kind: TableRow['kind'], id: string, name: string): TableRow => ({
      ...{ kind, id, name },
      cells: signsOf(all.rows.get(id) ?? new Uint16Array(), order, signs),
    });
    const guestsLast = [...people.filter((p) => !p.guest), ...people.filter((p) => p.guest)];
    return {
      at: at.toISOString(),
      folders,
      rows: [
        ...groups.map((g) => row('group', g.asker.personId, g.name)),
        row('staff', STAFF_ROW, 'All staff'),
        ...guestsLast.map((p) => row(p.guest ? 'guest' : 'person', p.id, p.name)),
        // Links go by what is open now.
        ...(moment === undefined ? [await this.linkRow(folders, at)] : []),
      ],
    };
  }

  private async linkRow(folders: readonly TableFolder[], at: Date): Promise<TableRow> {
    const open = await this.openByLinks(this.db.manager, at);
    const cells = folders.map((f) => (open.has(f.id) ? 'D' : '.')).join('');
    return { kind: 'links', id: 'links', name: 'Anyone with a link', cells };
  }

  /** What a change would do, found by doing it and taking it back. @throws as the change itself */
  async try(who: Who, trial: AccessTrial): Promise<AccessShifts> {
    // Worked out before, because others wait while this holds the access lock.
    await ensureReach(this.db.manager, [who.personId], this.clock.date());
    try {
      await this.events.change(async (tx) => {
        await lockAccess(tx, 'alone');
        const before = await this.whole(tx, null);
        if ('join' in trial) await this.groups.joinIn(tx, who, trial.join.groupId, trial.join.member);
        else if ('leave' in trial) await this.groups.leaveIn(tx, who, trial.leave.groupId, trial.leave.member);
        else await this.grants.tryIn(tx, who, trial);
        throw new Tried(await this.shifts(tx, who, before, await this.whole(tx, null)));
      });
    } catch (error) {
      if (error instanceof Tried) return error.shifts;
      throw error;
    }
    throw new Error('what was tried was kept');
  }

  async between(who: Who, since: string, until: string | undefined): Promise<ShiftsBetween> {
    const [from, to] = [this.momentOf(since), this.momentOf(until)];
    if (from >= to) throw invalidField('since', 'access.order', 'The first moment is the earlier one.');
    const m = this.db.manager;
    const shifts = await this.shifts(m, who, await this.whole(m, from), await this.whole(m, to));
    const by = await this.ledger.actorsBetween(CHANGES, from, to);
    return { ...shifts, since: from.toISOString(), until: to.toISOString(), by };
  }

  async moments(): Promise<AccessMoments> {
    const now = this.clock.now();
    const found = await accessMoments(this.db.manager, new Date(now - OFFERED_MS));
    return {
      moments: found
        .filter(({ at }) => at.getTime() <= now)
        .map(({ at, changes }) => ({ at: at.toISOString(), changes })),
    };
  }

  private momentOf(text: string | undefined): Date {
    const at = text === undefined ? this.clock.date() : new Date(text);
    if (at.getTime() > this.clock.now()) throw momentToCome();
    return at;
  }

  private rootsAt(m: EntityManager, at: Date | null): Promise<Map<string, RootFolder>> {
    return at === null ? loadRoots(m) : loadRootsAt(m, at);
  }

  private async whole(m: EntityManager, at: Date | null): Promise<Whole> {
    const [roots, askers] = [await this.rootsAt(m, at), await loadAskers(m, null)];
    return { roots, table: accessTable(roots, askers, (at ?? this.clock.date()).getTime()) };
  }

  private async shifts(m: EntityManager, who: Who, before: Whole, after: Whole): Promise<AccessShifts> {
    const above = (id: string) => (after.roots.get(id) ?? before.roots.get(id))?.above ?? null;
    const all = new Map([...before.roots, ...after.roots]);
    const folders = new Map((await this.foldersFor(who, all, null, m)).map((f) => [f.id, f.name]));
    const people = new Map((await peopleAt(m, this.clock.date())).map((p) => [p.id, p]));
    const found = tableShifts(before.table, after.table, above).flatMap((shift): ShiftRow[] => {
      const [folder, person] = [folders.get(shift.folderId), people.get(shift.personId)];
      if (folder === undefined || !person) return [];
      return [
        {
          person: { id: person.id, name: person.name },
          guest: person.guest,
          folder: { id: shift.folderId, name: folder },
          was: levelOfCell(shift.was),
          is: levelOfCell(shift.is),
          below: shift.below,
        },
      ];
    });
    return { words: shiftWords(found), shifts: found.slice(0, LISTED), more: Math.max(0, found.length - LISTED) };
  }

  /** The folders of common stores of which somebody may know who reaches them: they see them, or may say so. */
  private async foldersFor(
    who: Who,
    roots: ReadonlyMap<string, RootFolder>,
    at: Date | null,
    m: EntityManager = this.db.manager,
  ): Promise<TableFolder[]> {
    const common = [...roots.values()].filter((root) => root.store.kind === 'common');
    const ids = common.map((root) => root.id);
    const now = this.clock.date();
    await ensureReach(m, [who.personId], now);
    const { places } = await reachedPlaces(m, who.personId, ids, now);
    const known = new Set(places.filter((p) => (p.bits & MAY_KNOW) !== 0 && (at !== null || p.live)).map((p) => p.id));
    const names = new Map((await folderNames(m, ids, at)).map((f) => [f.id, f]));
    const moment = (at ?? now).getTime();
    const shown = common.flatMap(({ id, above, stops }): TableFolder[] => {
      const name = known.has(id) ? names.get(id) : undefined;
      return name ? [{ ...name, above, closed: stops.some((s) => holdsAt(s, moment)) }] : [];
    });
    return inOrder(shown);
  }
}

/** Stores by name, each followed by its folders, depth first. */
function inOrder(folders: TableFolder[]): TableFolder[] {
  const shown = new Set(folders.map((f) => f.id));
  const byName = (a: TableFolder, b: TableFolder) => a.name.localeCompare(b.name, 'en', { numeric: true });
  const below = (above: string | null): TableFolder[] =>
    folders
      .filter((f) => (f.above !== null && shown.has(f.above) ? f.above : null) === above)
      .sort(byName)
      .flatMap((f) => [f, ...below(f.id)]);
  return below(null);
}

/** A row as the contract writes it. @param known what was worked out already, because few cells differ */
function signsOf(row: Uint16Array, order: readonly number[], known: Map<number, string>): string {
  return order
    .map((i) => {
      const bits = row[i] ?? 0;
      const sign = known.get(bits) ?? cellSign(cellAt(row, i));
      known.set(bits, sign);
      return sign;
    })
    .join('');
}
