import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ACTS, actsOfBits, type Act, type OthersRule } from './acts.js';
import { ACCESS_LEVELS, type AccessLevel } from './access.js';
import { effectiveAccess, type FolderFact, type GrantSubject, type StoreFact } from './effective.js';
import { chainOf, whatCanReach, whoCanReach, type RootFolder } from './reach-of.js';
import { holdsAt, type Period } from './period.js';
import { accessTable, cellAt, tableShifts, type AccessTable, type Cell } from './table.js';
import { groupsOf, makesCircle, type Asker, type GroupFact, type Membership } from './subjects.js';

// Invented offices of a few people, nested groups and folders that move, asked two ways: by the rule, and by a model that
// walks everything at one moment and knows nothing of spans put together in advance.

const LAST = 12;
const moment = fc.integer({ min: 0, max: LAST });
const span: fc.Arbitrary<Period> = fc
  .tuple(moment, fc.option(fc.integer({ min: 1, max: LAST }), { nil: null }))
  .map(([since, length]) => ({ since, until: length === null ? null : since + length }));
const spans = (most: number) => fc.array(span, { maxLength: most });
const [PEOPLE, GROUPS, FOLDERS] = [3, 4, 7];
const person = fc.integer({ min: 0, max: PEOPLE - 1 }).map((n) => `p${n}`);
const group = fc.integer({ min: 0, max: GROUPS - 1 }).map((n) => `g${n}`);

interface Office {
  store: StoreFact;
  folders: FolderFact[];
  /** For each folder but the first, where it lay from each moment on: always in one that comes before it. */
  moves: { since: number; parent: number }[][];
  groups: GroupFact[];
  memberships: Membership[];
  people: Omit<Asker, 'groups'>[];
}

const subject: fc.Arbitrary<GrantSubject> = fc.oneof(
  fc.constant<GrantSubject>({ kind: 'staff' }),
  person.map((id): GrantSubject => ({ kind: 'person', id })),
  group.map((id): GrantSubject => ({ kind: 'group', id })),
);
const grants = fc.array(fc.tuple(subject, fc.constantFrom(...ACCESS_LEVELS), span), { maxLength: 3 });
const others = fc.option(fc.tuple(span, fc.constantFrom<OthersRule>('nothing', 'see', 'read')), { nil: null });
const folder = fc.tuple(grants, spans(1), others, fc.array(fc.tuple(moment, fc.nat(100)), { maxLength: 2 }));

const office: fc.Arbitrary<Office> = fc
  .record({
    kind: fc.constantFrom<StoreFact['kind']>('common', 'common', 'common', 'home', 'sealed'),
    owners: fc.array(fc.tuple(person, span), { maxLength: 2 }),
    archived: spans(1),
    folders: fc.array(folder, { minLength: 1, maxLength: FOLDERS }),
    groups: fc.array(span, { minLength: GROUPS, maxLength: GROUPS }),
    memberships: fc.array(fc.tuple(group, fc.oneof(person, group), span), { maxLength: 8 }),
    people: fc.array(fc.tuple(spans(1), spans(2), spans(1)), { minLength: PEOPLE, maxLength: PEOPLE }),
  })
  .map((made) => ({
    store: {
      kind: made.kind,
      owners: made.owners.map(([personId, s]) => ({ personId, ...s })),
      archived: made.archived,
    },
    folders: made.folders.map(([given, stops, rule], n) => ({
      id: `f${n}`,
      grants: given.map(([to, level, s], i) => ({ id: `f${n}.${i}`, subject: to, level, ...s })),
      stops,
      others: rule ? [{ rule: rule[1], ...rule[0] }] : [],
    })),
    moves: made.folders.map(([, , , moves], n) =>
      n === 0 ? [] : [{ since: -1, parent: 0 }, ...moves.map(([since, to]) => ({ since, parent: to % n }))],
    ),
    groups: made.groups.map((s, n) => ({ id: `g${n}`, name: `Group ${n}`, ...s })),
    memberships: made.memberships.map(([groupId, id, s]) => ({
      groupId,
      member: { kind: id.startsWith('p') ? ('person' as const) : ('group' as const), id },
      ...s,
    })),
    people: made.people.map(([guest, account, admin], n) => ({ personId: `p${n}`, guest, account, admin })),
  }));

/** The design's table, written out once more. */
const TABLE: Record<AccessLevel, [string, string]> = {
  view: ['see', 'see'],
  download: ['see read', 'see read'],
  contribute: ['add', 'see read add change remove'],
  edit: ['see read add change remove publish', 'see read add change remove publish'],
  manage: ['see read add change remove publish manage', 'see read add change remove publish manage'],
};
const OTHERS: Record<OthersRule, string> = { nothing: '', see: 'see', read: 'see read' };

function pathAt({ moves }: Office, n: number, at: number): number[] {
  const path = [n];
  while (path.at(-1) !== 0) {
    const here = moves[path.at(-1) as number] as { since: number; parent: number }[];
    path.push(here.reduce((best, m) => (m.since <= at && m.since >= best.since ? m : best)).parent);
  }
  return path;
}

/** Everything looked at as it is at one moment. */
function naive(of: Office, path: number[], who: string, at: number): { acts: Act[]; own: Act[] } {
  const me = of.people.find((p) => p.personId === who) as Office['people'][number];
  const acts = new Set<string>();
  const own = new Set<string>();
  const give = (all: string, theirs: string) => {
    for (const act of all.split(' ').filter(Boolean)) acts.add(act);
    for (const act of `${all} ${theirs}`.split(' ').filter(Boolean)) own.add(act);
  };
  const mine = new Set([who]);
  for (let size = 0; size !== mine.size;) {
    size = mine.size;
    for (const m of of.memberships)
      if (holdsAt(m, at) && mine.has(m.member.id) && of.groups.some((g) => g.id === m.groupId && holdsAt(g, at)))
        mine.add(m.groupId);
  }
  let stopped = false;
  let rule: OthersRule | null = null;
  const counted: FolderFact[] = [];
  for (const n of path) {
    const here = of.folders[n] as FolderFact;
    counted.push(here);
    rule ??= here.others.find((o) => holdsAt(o, at))?.rule ?? null;
    if (here.stops.some((s) => holdsAt(s, at))) {
      stopped = n !== 0;
      break;
    }
  }
  if (me.account.some((s) => holdsAt(s, at))) {
    if (of.store.kind === 'home') {
      if (of.store.owners.some((o) => o.personId === who && holdsAt(o, at))) give(...TABLE.manage);
    } else {
      for (const g of counted.flatMap((f) => f.grants)) {
        const theirs = g.subject.kind === 'staff' ? !me.guest.some((s) => holdsAt(s, at)) : mine.has(g.subject.id);
        if (!theirs || !holdsAt(g, at)) continue;
        give(...TABLE[g.level]);
        if (g.level === 'contribute') give(OTHERS[rule ?? 'nothing'], '');
      }
      if (of.store.kind === 'common' && me.admin.some((s) => holdsAt(s, at)))
        give(stopped ? 'manage' : TABLE.manage[0], '');
    }
  }
  if (of.store.archived.some((s) => holdsAt(s, at)))
    for (const set of [acts, own]) for (const act of ['add', 'change', 'remove']) set.delete(act);
  const ordered = (set: Set<string>) => ACTS.filter((act) => set.has(act));
  return { acts: ordered(acts), own: ordered(own) };
}

const askers = (of: Office): Asker[] =>
  of.people.map((p) => ({ ...p, groups: groupsOf({ kind: 'person', id: p.personId }, of.memberships, of.groups) }));

const rootsAt = (of: Office, at: number): Map<string, RootFolder> =>
  new Map(
    of.folders.map((f, n) => {
      const above = pathAt(of, n, at)[1];
      return [f.id, { ...f, store: of.store, above: above === undefined ? null : `f${above}` }];
    }),
  );

describe('access, against a model that walks everything', () => {
  it('is the same for everybody, in every folder, at every moment, and until when it says', () => {
    fc.assert(
      fc.property(office, moment, (of, at) => {
        const roots = rootsAt(of, at);
        for (const asker of askers(of))
          for (const [n, { id }] of of.folders.entries()) {
            const path = pathAt(of, n, at);
            const { acts, own, validUntil } = effectiveAccess(chainOf(roots, id), of.store, asker, at);
            const is = naive(of, path, asker.personId, at);
            expect({ acts, own }).toEqual(is);
            const later = Array.from({ length: 2 * LAST + 2 - at }, (_, i) => at + 1 + i);
            const next = later.find((t) => JSON.stringify(naive(of, path, asker.personId, t)) !== JSON.stringify(is));
            expect(validUntil).toBe(next ?? null);
          }
      }),
      { numRuns: 4000 },
    );
  }, 120_000);
  it('the table of everybody in every folder is the same once more', () => {
    fc.assert(
      fc.property(office, moment, (of, at) => {
        const { folders, rows } = accessTable(rootsAt(of, at), askers(of), at);
        for (const { personId } of of.people)
          for (const [i, id] of folders.entries()) {
            const cell = cellAt(rows.get(personId), i);
            const n = of.folders.findIndex((f) => f.id === id);
            const { acts, own } = naive(of, pathAt(of, n, at), personId, at);
            expect([actsOfBits(cell.acts), actsOfBits(cell.own)]).toEqual([acts, own]);
          }
      }),
      { numRuns: 3000 },
    );
  }, 120_000);
  it('what shifts between two moments is told where it begins, and nothing is left out', () => {
    fc.assert(
      fc.property(office, moment, moment, (of, early, late) => {
        // The tree stands still: what differs is who may what.
        const roots = rootsAt(of, late);
        const [before, after] = [early, late].map((at) => accessTable(roots, askers(of), at)) as [
          AccessTable,
          AccessTable,
        ];
        const above = (id: string) => roots.get(id)?.above ?? null;
        const shifts = tableShifts(before, after, above);
        const differ = of.people.flatMap(({ personId }) =>
          before.folders.filter((_, i) => {
            const [was, is] = [before, after].map((t) => cellAt(t.rows.get(personId), i)) as [Cell, Cell];
            return was.acts !== is.acts || was.own !== is.own;
          }),
        );
        expect(shifts.reduce((sum, s) => sum + 1 + s.below, 0)).toBe(differ.length);
        for (const { personId, folderId, was, is } of shifts) {
          const over = above(folderId);
          const upper = shifts.find((s) => s.personId === personId && s.folderId === over);
          expect(
            upper?.was.own === was.own &&
              upper.was.acts === was.acts &&
              upper.is.acts === is.acts &&
              upper.is.own === is.own,
          ).toBe(false);
        }
      }),
      { numRuns: 1000 },
    );
  }, 120_000);
  it('who can reach a folder, and what somebody can reach, are the same question', () => {
    fc.assert(
      fc.property(office, moment, (of, at) => {
        const roots = rootsAt(of, at);
        const everybody = askers(of);
        const may = (n: number, who: string) => naive(of, pathAt(of, n, at), who, at);
        for (const [n, { id }] of of.folders.entries())
          expect(
            whoCanReach(chainOf(roots, id), of.store, everybody, at)
              .map((w) => w.personId)
              .sort(),
          ).toEqual(everybody.map((a) => a.personId).filter((who) => may(n, who).own.length > 0));
        for (const asker of everybody) {
          const edges = of.folders.flatMap(({ id }, n) => {
            const above = pathAt(of, n, at)[1];
            const before = above === undefined ? { acts: [], own: [] } : may(above, asker.personId);
            return JSON.stringify(may(n, asker.personId)) === JSON.stringify(before) ? [] : [id];
          });
          expect(whatCanReach(roots, asker, at).map((w) => w.folderId)).toEqual(edges);
        }
      }),
      { numRuns: 1000 },
    );
  }, 120_000);
  it('a group that would come to be within itself is found, however long the way', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(group, group), { maxLength: 8 }), (wished) => {
        const made: Membership[] = [];
        for (const [groupId, id] of wished)
          if (!makesCircle(groupId, id, made))
            made.push({ groupId, member: { kind: 'group', id }, since: 0, until: null });
        const below = (id: string, depth = 0): boolean =>
          depth <= GROUPS && made.filter((m) => m.groupId === id).every((m) => below(m.member.id, depth + 1));
        for (let n = 0; n < GROUPS; n += 1) expect(below(`g${n}`)).toBe(true);
      }),
    );
  });
});
