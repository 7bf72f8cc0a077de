import { describe, expect, it } from 'vitest';
import type { FolderFact, GrantSubject, StoreFact } from './effective.js';
import { explainAccess } from './explain.js';
import { groupsOf, type Asker } from './subjects.js';

const NOW = Date.parse('2026-12-01T10:00:00Z');
const always = { since: 0, until: null };
const common: StoreFact = { kind: 'common', owners: [], archived: [] };
const folder = (id: string, part: Partial<FolderFact> = {}): FolderFact => ({
  id,
  grants: [],
  stops: [],
  others: [],
  ...part,
});
const grant = (
  subject: GrantSubject,
  level: 'view' | 'edit',
  span: { since: number; until: number | null } = always,
) => ({
  id: `${JSON.stringify(subject)} ${level}`,
  subject,
  level,
  ...span,
});
const tomas: Asker = {
  personId: 'tomas',
  guest: [],
  account: [always],
  admin: [],
  groups: groupsOf(
    { kind: 'person', id: 'tomas' },
    [
      { groupId: 'drones', member: { kind: 'person', id: 'tomas' }, ...always },
      { groupId: 'field', member: { kind: 'group', id: 'drones' }, ...always },
    ],
    [
      { id: 'drones', name: 'Drone pilots', ...always },
      { id: 'field', name: 'Field crew', ...always },
    ],
  ),
};
const iris: Asker = { personId: 'iris', guest: [], account: [always], admin: [always], groups: [] };
const words: Record<string, string> = {
  office: 'Office',
  personnel: 'Personnel',
  projects: 'Projects',
  field: 'Field crew',
  drones: 'Drone pilots',
};
const names = {
  folder: (id: string) => words[id] as string,
  group: (id: string) => words[id] as string,
  zone: 'Europe/London',
};
const why = (chain: FolderFact[], asker: Asker = tomas, store = common) =>
  explainAccess(chain, store, asker, NOW, names);

describe('why', () => {
  it('what decides comes first, each reason once, with where it was granted, to whom and until when', () => {
    const until = Date.parse('2026-12-04T17:00:00Z');
    const chain = [
      folder('projects', { grants: [grant({ kind: 'group', id: 'field' }, 'edit', { since: 0, until })] }),
      folder('office', { grants: [grant({ kind: 'staff' }, 'view'), grant({ kind: 'person', id: 'tomas' }, 'view')] }),
    ];
    expect(why(chain)).toEqual([
      'Can edit: granted on Projects to Field crew, through Drone pilots, until Fri 4 Dec, 17:00.',
      'Can view: granted on Office to all staff.',
      'Can view: granted on Office.',
    ]);
  });
  it('the admin, and what is left of it where a folder takes nothing over', () => {
    expect(why([folder('office')], iris)).toEqual(['Can manage: the admin does.']);
    expect(why([folder('personnel', { stops: [always] }), folder('office')], iris)).toEqual([
      'Can only say who reaches it, as the admin: Personnel takes nothing over.',
    ]);
  });
  it('a home is its owner’s', () => {
    const home: StoreFact = { kind: 'home', owners: [{ personId: 'tomas', ...always }], archived: [] };
    expect(why([folder('office')], tomas, home)).toEqual(['Can manage: it is their home.']);
    expect(why([folder('office')], iris, home)).toEqual(["Nothing: it is somebody's home."]);
  });
});

describe('why not', () => {
  const staff = [grant({ kind: 'staff' }, 'edit')];
  it('a folder that takes nothing over, where there would be something', () => {
    const chain = [folder('projects'), folder('personnel', { stops: [always] }), folder('office', { grants: staff })];
    expect(why(chain)).toEqual(['Nothing: Personnel takes nothing over from Office.']);
  });
  it('what has not begun, what is over, what never was, and an account that cannot be used', () => {
    const to = (since: number, until: number | null) => [
      folder('projects', { grants: [grant({ kind: 'person', id: 'tomas' }, 'edit', { since, until })] }),
    ];
    expect(why(to(Date.parse('2026-12-03T09:00:00Z'), null))).toEqual([
      'Nothing yet: what was granted on Projects begins on Thu 3 Dec, 09:00.',
    ]);
    expect(why(to(0, Date.parse('2026-11-30T09:00:00Z')))).toEqual([
      'Nothing any more: what was granted on Projects ended on Mon 30 Nov, 09:00.',
    ]);
    expect(why([folder('projects')])).toEqual(['Nothing: nobody granted them anything here.']);
    expect(why([folder('projects', { grants: staff })], { ...tomas, account: [] })).toEqual([
      'Nothing: the account cannot be used.',
    ]);
    expect(why([folder('projects', { grants: staff })], { ...tomas, guest: [always] })).toEqual([
      'Nothing: nobody granted them anything here.',
    ]);
  });
});
