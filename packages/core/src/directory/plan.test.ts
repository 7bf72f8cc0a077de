import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  directoryChangeWords,
  directoryPlan,
  directoryPlanWords,
  type DirectoryChange,
  type DirectoryFollowed,
  type DirectoryKnown,
  type DirectorySeen,
} from './plan.js';
import type { DirectoryGroup, DirectoryPerson } from './schema.js';

const CREW = 'ou=Crew,dc=saltmarsh,dc=example';
const person = (name: string, part: Partial<DirectoryPerson> = {}): DirectoryPerson => ({
  ...{ id: `id-${name}`, dn: `uid=${name},${CREW}`, name, email: `${name}@saltmarsh.example`, signInName: name },
  ...{ names: [], disabled: false, memberOf: [] },
  ...part,
});
const group = (name: string, members: string[], part: Partial<DirectoryGroup> = {}): DirectoryGroup => ({
  ...{ id: `id-${name}`, dn: `cn=${name},${CREW}`, name, members, memberOf: [] },
  ...part,
});
const see = (people: DirectoryPerson[], groups: DirectoryGroup[] = []): DirectorySeen => ({
  people,
  groups,
  faults: [],
});
const NOTHING: DirectoryKnown = { people: [], groups: [], others: [], otherGroups: [], memberships: [] };
const ALL: DirectoryFollowed = { branches: [CREW], chosen: new Set(), taken: new Map() };

/** What is here after a run, done by the letter: a model that knows nothing of how the plan was made. */
function after(known: DirectoryKnown, changes: readonly DirectoryChange[]): DirectoryKnown {
  const people = new Map(known.people.map((p) => [p.entryId, { ...p }]));
  const groups = new Map(known.groups.map((g) => [g.entryId, { ...g }]));
  let memberships = [...known.memberships];
  for (const c of changes) {
    if ('member' in c) {
      memberships = memberships.filter((m) => m.group !== c.group || m.member !== c.member);
      if (c.kind === 'joined') memberships.push({ group: c.group, member: c.member, byHand: false });
    } else if (c.kind === 'person-new' || c.kind === 'person-taken')
      people.set(c.entryId, {
        ...{ entryId: c.entryId, personId: c.kind === 'person-new' ? `p-${c.entryId}` : c.personId, dn: c.dn },
        ...{ name: c.name, email: c.email, signInName: c.signInName, names: c.names },
        ...{ usable: true, gone: false, isLast: false },
      });
    else if (c.kind === 'group-new' || c.kind === 'group-taken')
      groups.set(c.entryId, {
        ...{ entryId: c.entryId, groupId: c.kind === 'group-new' ? `g-${c.entryId}` : c.groupId, dn: c.dn },
        ...{ name: c.name, gone: false, ended: false },
      });
    else {
      const p = people.get(c.entryId);
      const g = groups.get(c.entryId);
      if (p && c.kind === 'person-changed')
        Object.assign(p, { name: c.name, email: c.email, signInName: c.signInName, names: c.names, dn: c.dn });
      if (p && c.kind === 'person-moved') p.dn = c.dn;
      if (p && c.kind === 'person-left') Object.assign(p, { usable: false, gone: true });
      if (p && c.kind === 'person-back') Object.assign(p, { usable: true, gone: false });
      if (g && c.kind === 'group-renamed') g.name = c.name;
      if (g && (c.kind === 'group-left' || c.kind === 'group-back')) g.gone = c.kind === 'group-left';
    }
  }
  const taken = new Set(changes.flatMap((c) => (c.kind === 'person-taken' ? [c.personId] : [])));
  const takenGroups = new Set(changes.flatMap((c) => (c.kind === 'group-taken' ? [c.groupId] : [])));
  return {
    ...{ people: [...people.values()], groups: [...groups.values()], memberships },
    others: known.others.filter((p) => !taken.has(p.id)),
    otherGroups: known.otherGroups.filter((g) => !takenGroups.has(g.id)),
  };
}
const run = (seen: DirectorySeen, known: DirectoryKnown, followed = ALL): DirectoryKnown =>
  after(known, directoryPlan(seen, known, followed).changes);
const words = (seen: DirectorySeen, known: DirectoryKnown, followed = ALL) => {
  const plan = directoryPlan(seen, known, followed);
  return [...plan.changes.map(directoryChangeWords), ...plan.kept.map((k) => k.words)];
};

describe('a run of the directory', () => {
  it('gives accounts to who is new in a branch that is followed, and to who was chosen', () => {
    const seen = see([person('zoe'), person('noel', { dn: 'uid=noel,ou=Old,dc=saltmarsh,dc=example' })]);
    expect(words(seen, NOTHING)).toEqual(['zoe gets an account, and signs in as zoe.']);
    const chosen = { ...ALL, branches: [], chosen: new Set(['id-noel']) };
    expect(words(seen, NOTHING, chosen)).toEqual(['noel gets an account, and signs in as noel.']);
  });

  it('knows entries by their ids, whatever they are called and wherever they stand', () => {
    const known = run(see([person('zoe')]), NOTHING);
    const renamed = person('zoe', { name: 'Zoe Weir', signInName: 'weir', dn: 'uid=weir,ou=Old,dc=saltmarsh' });
    expect(words(see([renamed]), known)).toEqual(['zoe: is called Zoe Weir, signs in as weir.']);
    const moved = person('zoe', { dn: 'uid=zoe,ou=Old,dc=saltmarsh' });
    expect(words(see([moved]), known)).toEqual(['zoe stands in another place there: uid=zoe,ou=Old,dc=saltmarsh.']);
    expect(words(see([person('zoe', { dn: 'UID=ZOE, OU=crew,dc=saltmarsh,dc=example' })]), known)).toEqual([]);
  });

  it('disables who is gone or disabled there, and lets in again whom it disabled itself', () => {
    const known = run(see([person('zoe'), person('noel')]), NOTHING);
    const gone = see([person('zoe', { disabled: true })]);
    expect(words(gone, known)).toEqual([
      'zoe is disabled there, and then here.',
      'noel is not there any more, and is disabled here.',
    ]);
    const back = run(see([person('zoe'), person('noel')]), run(gone, known));
    expect(back.people.map((p) => p.usable)).toEqual([true, true]);
    // Disabled here by somebody: not the directory's to enable.
    const byHand = { ...known, people: known.people.map((p) => ({ ...p, usable: false })) };
    expect(words(see([person('zoe'), person('noel')]), byHand)).toEqual([]);
    expect(words(see([]), byHand)).toEqual([]);
  });

  it('stops and asks where more than a tenth would be disabled', () => {
    const many = Array.from({ length: 20 }, (_, n) => person(`p${n}`));
    const known = run(see(many), NOTHING);
    expect(directoryPlan(see(many.slice(2)), known, ALL)).toMatchObject({
      asks: false,
      leaving: { of: 20, disabled: 2 },
    });
    expect(directoryPlan(see(many.slice(3)), known, ALL)).toMatchObject({
      asks: true,
      leaving: { of: 20, disabled: 3 },
    });
    expect(directoryPlan(see([]), known, ALL).asks).toBe(true);
  });

  it('never disables the last one who can run the server, nor somebody whose entry cannot be read', () => {
    const known = run(see([person('zoe')]), NOTHING);
    const last = { ...known, people: known.people.map((p) => ({ ...p, isLast: true })) };
    expect(words(see([]), last)).toEqual(['zoe is not there any more, but is the last one who can run the server.']);
    const unread = { people: [], groups: [], faults: [{ dn: `uid=zoe,${CREW}`, fault: 'It has no mail address.' }] };
    expect(words(unread, known)).toEqual(['It has no mail address.']);
  });

  it('takes nobody for somebody by a name or an address alone', () => {
    const others = [{ id: 'a', name: 'Zoe Calder', email: 'Zoe@saltmarsh.example', signInName: 'z', isAdmin: false }];
    const seen = see([person('zoe')]);
    const known = { ...NOTHING, others };
    expect(words(seen, known)).toEqual(['zoe: Zoe Calder has zoe@saltmarsh.example here already. Are they the same?']);
    const taken = { ...ALL, taken: new Map([['id-zoe', 'a']]) };
    expect(words(seen, known, taken)).toEqual(['zoe signs in by the directory from now on, as zoe.']);
    // Whoever runs the directory would be an admin.
    const admin = { ...NOTHING, others: others.map((o) => ({ ...o, isAdmin: true })) };
    expect(words(seen, admin, taken)).toEqual([
      'zoe: the admin Zoe Calder has zoe@saltmarsh.example here, and keeps a password of their own.',
    ]);
  });

  it('gives one of two entries with one address an account, and says so of the other', () => {
    const seen = see([person('zoe'), person('noel', { email: 'ZOE@saltmarsh.example' })]);
    expect(words(seen, NOTHING)).toEqual([
      'zoe gets an account, and signs in as zoe.',
      'noel: another entry of the directory has ZOE@saltmarsh.example too.',
    ]);
  });
});

describe('its groups', () => {
  it('have whom the group names, by name or by what they sign in with, and who names the group', () => {
    const crew = group('Crew', [`UID=Zoe, ${CREW}`, 'noel', 'uid=nobody,dc=x']);
    const seen = see([person('zoe'), person('noel'), person('rosa', { memberOf: [`cn=crew,${CREW}`] })], [crew]);
    const { memberships } = run(seen, NOTHING);
    expect(memberships.map((m) => m.member)).toEqual(['id-zoe', 'id-noel', 'id-rosa']);
    expect(words(see(seen.people.slice(0, 2), [crew]), run(seen, NOTHING))).toContain('rosa leaves Crew.');
  });

  it('that somebody ended here are not begun again', () => {
    const seen = see([person('zoe')], [group('Crew', ['zoe'])]);
    const known = run(seen, NOTHING);
    const ended = { ...known, groups: known.groups.map((g) => ({ ...g, ended: true })), memberships: [] };
    expect(words(seen, ended)).toEqual([]);
    expect(words(see(seen.people), ended)).toEqual([]);
  });

  it('leave in whom somebody put in by hand', () => {
    const seen = see([person('zoe')], [group('Crew', [])]);
    const known = run(seen, NOTHING);
    const byHand = { ...known, memberships: [{ group: 'id-Crew', member: 'id-zoe', byHand: true }] };
    expect(words(seen, byHand)).toEqual([]);
    expect(words(see([person('zoe')], [group('Crew', ['zoe'])]), byHand)).toEqual([]);
  });

  it('that are in each other are put into one alone, and it is said', () => {
    const seen = see([], [group('A', [`cn=B,${CREW}`]), group('B', [`cn=C,${CREW}`]), group('C', [`cn=A,${CREW}`])]);
    const plan = directoryPlan(seen, NOTHING, ALL);
    expect(run(seen, NOTHING).memberships).toHaveLength(2);
    expect(plan.kept.map((k) => k.words)).toEqual(['A is not put into C: the directory has them in each other.']);
    expect(words(seen, run(seen, NOTHING))).toEqual(plan.kept.map((k) => k.words));
  });

  it('that are gone lose whom they had by it, and stay', () => {
    const seen = see([person('zoe')], [group('Crew', ['zoe'])]);
    expect(words(see([person('zoe')]), run(seen, NOTHING))).toEqual([
      'The group Crew is not there any more, and loses whom it had by the directory.',
      'zoe leaves Crew.',
    ]);
  });

  it('of a name that is taken are asked about', () => {
    const known = { ...NOTHING, otherGroups: [{ id: 'g', name: 'Crew' }] };
    const seen = see([], [group('Crew', [])]);
    expect(words(seen, known)).toEqual(['There is a group called Crew already. Are they the same?']);
    expect(words(seen, known, { ...ALL, taken: new Map([['id-Crew', 'g']]) })).toEqual([
      'The group Crew has whoever the directory says, beside those put in by hand.',
    ]);
  });
});

describe('whatever the directory says, one time and the next', () => {
  const NAMES = ['zoe', 'noel', 'rosa', 'tomas', 'crew', 'site'];
  const someone = fc.record({
    name: fc.constantFrom(...NAMES),
    email: fc.constantFrom(...NAMES),
    signInName: fc.constantFrom(...NAMES),
    disabled: fc.boolean(),
    memberOf: fc.subarray(['cn=g0', 'cn=g1', 'cn=g2']),
  });
  const directory = fc
    .record({
      people: fc.dictionary(fc.constantFrom('1', '2', '3', '4', '5'), someone),
      groups: fc.dictionary(
        fc.constantFrom('0', '1', '2'),
        fc.record({
          name: fc.constantFrom(...NAMES),
          members: fc.subarray(['cn=g0', 'cn=g1', 'cn=g2', 'cn=p1', 'zoe']),
        }),
      ),
    })
    .map(({ people, groups }): DirectorySeen => ({
      people: Object.entries(people).map(([n, p]) => ({ ...p, id: `p${n}`, dn: `cn=p${n}`, names: [] })),
      groups: Object.entries(groups).map(([n, g]) => ({ ...g, id: `g${n}`, dn: `cn=g${n}`, memberOf: [] })),
      faults: [],
    }));

  it('further runs find nothing to do in the end, names stay one person’s, and no group is in itself', () => {
    const followed = { ...ALL, branches: [''] };
    fc.assert(
      fc.property(directory, directory, (first, second) => {
        let known = run(first, NOTHING, followed);
        for (const seen of [second, first]) {
          // What one gives up in a run, another has from the next on.
          for (let runs = 0; runs < 6; runs += 1) known = run(seen, known, followed);
          expect(directoryPlanWords(directoryPlan(seen, known, followed).changes)).toBe('nothing to change');
          const usable = known.people.filter((p) => p.usable);
          expect(usable.every((p) => seen.people.some((s) => s.id === p.entryId && !s.disabled))).toBe(true);
          for (const of of ['signInName', 'email'] as const)
            expect(new Set(known.people.map((p) => p[of])).size).toBe(known.people.length);
          const inGroups = known.memberships.filter((m) => m.member.startsWith('g'));
          const within = (id: string): string[] =>
            inGroups.filter((m) => m.group === id).flatMap((m) => [m.member, ...within(m.member)]);
          for (const { entryId } of known.groups) expect(within(entryId)).not.toContain(entryId);
        }
      }),
      { numRuns: 200 },
    );
  }, 60_000);
});
