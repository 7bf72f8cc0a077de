import type { Duty, ShareLevel } from '@quay/core';

/** The made-up office: people, stores, projects and shares. Everything here is invented. */

export interface DemoPerson {
  key: string;
  name: string;
  initials: string;
  role: 'admin' | 'staff';
  groups: string[];
}

export const PEOPLE: DemoPerson[] = [
  { key: 'iris', name: 'Iris Ward', initials: 'IW', role: 'admin', groups: ['Office'] },
  { key: 'tomas', name: 'Tomas Osei', initials: 'TO', role: 'staff', groups: ['Site crew'] },
  { key: 'rosa', name: 'Rosa Quill', initials: 'RQ', role: 'staff', groups: ['Site crew', 'Drawing office'] },
  { key: 'ada', name: 'Ada Birch', initials: 'AB', role: 'staff', groups: ['Office', 'Payroll team'] },
  { key: 'noel', name: 'Noel Farrow', initials: 'NF', role: 'staff', groups: ['Partners', 'Drawing office'] },
  { key: 'priya', name: 'Priya Lockett', initials: 'PL', role: 'staff', groups: ['Partners'] },
  { key: 'sam', name: 'Sam Teasel', initials: 'ST', role: 'staff', groups: ['Site crew'] },
  { key: 'hana', name: 'Hana Vance', initials: 'HV', role: 'staff', groups: ['Drawing office'] },
  { key: 'leo', name: 'Leo Marram', initials: 'LM', role: 'staff', groups: ['Site crew'] },
  { key: 'edie', name: 'Edie Crane', initials: 'EC', role: 'staff', groups: ['Drawing office'] },
  { key: 'bram', name: 'Bram Holloway', initials: 'BH', role: 'staff', groups: ['Office'] },
];

export const PASSWORDS: Record<string, string> = { iris: 'weir-lantern-copper-tide', tomas: 'gravel-heron-silent-oar' };

export const GROUPS = ['Office', 'Site crew', 'Drawing office', 'Partners', 'Payroll team', 'Surveyors'];
/** Groups in groups: those who survey are the crew on site and those who draw. */
export const GROUPS_IN_GROUPS: [inner: string, outer: string][] = [
  ['Site crew', 'Surveyors'],
  ['Drawing office', 'Surveyors'],
];

/** Who was in a group for a while, by days from now. */
export const LEFT_GROUPS: [person: string, group: string, since: number, left: number][] = [
  ['bram', 'Payroll team', -56, -26],
];
/** Who says who is in a group, beside those who look after people. */
export const GROUP_MANAGERS: [group: string, person: string][] = [
  ['Site crew', 'tomas'],
  ['Drawing office', 'noel'],
];

/** Duties with a name, and who has them. */
export const DUTY_SETS: { name: string; duties: Duty[]; people: string[] }[] = [
  {
    name: 'Front desk',
    duties: ['publish-outside', 'ask-outside', 'invite-guests', 'use-drive', 'run-people'],
    people: ['ada', 'bram'],
  },
  {
    name: 'Partners of the firm',
    duties: ['publish-outside', 'ask-outside', 'invite-guests', 'use-drive', 'see-ledger'],
    people: ['noel', 'priya'],
  },
];

/** People from outside with an account, by days from now. */
export const GUESTS: {
  key: string;
  name: string;
  initials: string;
  email: string;
  sponsor: string;
  made: number;
  /** Null: never; they have set no password yet. */
  seen: number | null;
  ends: number | null;
  quietDays: number;
}[] = [
  {
    ...{ key: 'zoe', name: 'Zoe Calder', initials: 'ZC', email: 'zoe@calder.example', sponsor: 'tomas' },
    ...{ made: -21, seen: -0.4, ends: 5.4, quietDays: 30 },
  },
  {
    ...{ key: 'brookline', name: 'Brookline Surveys', initials: 'BS', email: 'office@brookline.example' },
    ...{ sponsor: 'iris', made: -48, seen: -2.2, ends: 2.3, quietDays: 60 },
  },
  {
    ...{ key: 'marek', name: 'Marek Hale', initials: 'MH', email: 'm.hale@fenway.example', sponsor: 'priya' },
    ...{ made: -3, seen: null, ends: null, quietDays: 90 },
  },
  {
    ...{ key: 'ottoline', name: 'Ottoline Reed', initials: 'OR', email: 'reed@quarry.example', sponsor: 'noel' },
    ...{ made: -70, seen: -11, ends: 48, quietDays: 60 },
  },
];

/** Grants on folders, by days from now; `ended` is when somebody ended one. */
export const FOLDER_GRANTS: {
  path: string;
  to: string | { group: string };
  level: 'view' | 'download' | 'contribute' | 'edit' | 'manage';
  by: string;
  since: number;
  until?: number;
  ended?: number;
}[] = [
  { path: 'Projects/2026/Weir House', to: 'ada', level: 'edit', by: 'noel', since: -9, until: 16.4 },
  { path: 'Projects/2026/Mill Lane', to: 'bram', level: 'edit', by: 'iris', since: -40, ended: -12 },
  { path: 'Office/Templates', to: { group: 'Drawing office' }, level: 'edit', by: 'priya', since: -30 },
  { path: 'Office/Personnel', to: { group: 'Partners' }, level: 'manage', by: 'priya', since: -58 },
  { path: 'Office/Personnel', to: 'ada', level: 'contribute', by: 'priya', since: -58 },
  { path: 'Office/Personnel', to: { group: 'Payroll team' }, level: 'edit', by: 'priya', since: -57 },
  { path: 'Office/Personnel', to: 'bram', level: 'download', by: 'priya', since: -55 },
  { path: 'Projects/2026/Mill Lane', to: 'zoe', level: 'contribute', by: 'iris', since: -21 },
  { path: 'Projects/2026/Weir House', to: 'brookline', level: 'download', by: 'iris', since: -48 },
  { path: 'Tenders/Pack 3', to: 'marek', level: 'view', by: 'priya', since: -3 },
  { path: 'Projects/2026/Quarry access', to: 'ottoline', level: 'edit', by: 'noel', since: -70 },
];
/** Folders that take nothing over from above, since so many days ago. */
export const CLOSED_FOLDERS: [path: string, daysAgo: number, by: string][] = [['Office/Personnel', 58, 'priya']];

export const STORES: {
  name: string;
  grants: [group: string, level: 'view' | 'download' | 'contribute' | 'edit' | 'manage'][];
}[] = [
  {
    name: 'Projects',
    grants: [
      ['Surveyors', 'edit'],
      ['Partners', 'manage'],
      ['Office', 'download'],
    ],
  },
  {
    name: 'Office',
    grants: [
      ['Office', 'edit'],
      ['Partners', 'manage'],
      ['Surveyors', 'download'],
    ],
  },
  {
    name: 'Tenders',
    grants: [
      ['Partners', 'manage'],
      ['Office', 'edit'],
    ],
  },
];

/** Projects of the year: name, drawing prefix, photographs. */
export const PROJECTS: [name: string, prefix: string, photographs: number][] = [
  ['Mill Lane', 'ML', 24],
  ['Weir House', 'WH', 22],
  ['Fenway culvert', 'FC', 20],
  ['Hartop yard', 'HY', 18],
  ['Saltings bridge', 'SB', 18],
  ['Orchard terrace', 'OT', 14],
  ['Quarry access', 'QA', 14],
  ['Station forecourt', 'SF', 12],
];

export interface DemoShare {
  title: string;
  by: string;
  /** Path below the store, from the store's name on; a folder or a file. */
  items: string[];
  /** Days from now; null: none. */
  opens: number | null;
  closes: number | null;
  made: number;
  password?: boolean;
  limit?: number;
  used: number;
  withdrawn?: number;
  message?: string;
  /** The item goes to the trash afterwards. */
  broken?: boolean;
  /** Addresses, domains and `*.domain` that it is for, canonical; visits are by the first. */
  listed?: string[];
  /** The group that it is for. */
  group?: string;
  /** What visitors may; left out: they download. */
  level?: ShareLevel;
}

const P = 'Projects/2026';

/** In every state: open, scheduled, closed, used up, withdrawn, broken. */
export const SHARES: DemoShare[] = [
  {
    title: 'Mill Lane drawings',
    by: 'iris',
    items: [
      `${P}/Mill Lane/ML-101 ground floor.pdf`,
      `${P}/Mill Lane/ML-102 first floor.pdf`,
      `${P}/Mill Lane/North elevation.png`,
    ],
    opens: -8,
    closes: 1.6,
    made: -8,
    password: true,
    limit: 20,
    used: 7,
    message: 'The floor plans and the north elevation, as agreed on Thursday.',
  },
  {
    title: 'Payroll letters',
    by: 'ada',
    items: ['Office/Letters'],
    opens: -1.4,
    closes: 6.6,
    made: -1.4,
    password: true,
    limit: 3,
    used: 1,
  },
  {
    title: 'Site crew photographs',
    by: 'rosa',
    items: [`${P}/Mill Lane/Photographs`, `${P}/Hartop yard/Photographs`],
    level: 'contribute',
    opens: -2.4,
    closes: 18.6,
    made: -2.4,
    used: 6,
  },
  {
    title: 'Office handbook',
    by: 'iris',
    items: ['Office/Handbook.pdf'],
    opens: -60,
    closes: null,
    made: -60,
    used: 31,
  },
  {
    title: 'Weir House point cloud',
    by: 'tomas',
    items: [`${P}/Weir House/Scans/Scan 01.las`, `${P}/Weir House/Scans/Scan 02.las`],
    opens: -4,
    closes: 3.3,
    made: -4,
    password: true,
    used: 2,
    message: 'Two scans of the tail race. Scan 2 replaces the one sent in October.',
  },
  {
    title: 'Culvert sections',
    by: 'noel',
    items: [`${P}/Fenway culvert/Sections`],
    opens: -3,
    closes: 11,
    made: -3,
    listed: ['m.hale@fenway.example', '*.fenway.example'],
    limit: 10,
    used: 4,
  },
  {
    title: 'Hartop yard boundary',
    by: 'rosa',
    items: [`${P}/Hartop yard/Boundary.dxf`, `${P}/Hartop yard/Control points.csv`],
    opens: -6,
    closes: 0.9,
    made: -6,
    used: 3,
  },
  {
    title: 'Bridge inspection film',
    by: 'sam',
    items: [`${P}/Saltings bridge/Drone pass.webm`],
    opens: -1,
    closes: 13,
    made: -1,
    used: 2,
  },
  {
    title: 'Terrace levels',
    by: 'hana',
    items: [`${P}/Orchard terrace/Levels`],
    opens: -5,
    closes: 2.1,
    made: -5,
    limit: 8,
    used: 5,
  },
  {
    title: 'Tender pack 2',
    by: 'priya',
    items: ['Tenders/Pack 2'],
    opens: -7.5,
    closes: 4.4,
    made: -7.5,
    password: true,
    used: 9,
  },
  {
    title: 'Quarry access photographs',
    by: 'leo',
    items: [`${P}/Quarry access/Photographs`],
    opens: -0.6,
    closes: 6.4,
    made: -0.6,
    used: 0,
  },
  {
    title: 'Forecourt drawings',
    by: 'edie',
    items: [`${P}/Station forecourt/SF-101 ground floor.pdf`, `${P}/Station forecourt/Boundary.dxf`],
    opens: -2,
    closes: 26,
    made: -2,
    password: true,
    used: 3,
  },
  {
    title: 'Letterheads for the printer',
    by: 'bram',
    items: ['Office/Templates'],
    opens: -30,
    closes: null,
    made: -30,
    used: 4,
  },
  {
    title: 'Control network',
    by: 'tomas',
    items: [`${P}/Weir House/Control points.csv`, `${P}/Mill Lane/Control points.csv`],
    opens: -3.4,
    closes: 9.5,
    made: -3.4,
    used: 1,
  },
  {
    title: 'Tender pack 3',
    by: 'priya',
    items: ['Tenders/Pack 3'],
    opens: 4.6,
    closes: 11.5,
    made: -1,
    password: true,
    listed: ['m.hale@fenway.example', 'office@brookline.example', '*.quarry.example'],
    used: 0,
  },
  {
    title: 'Final model, Weir House',
    by: 'iris',
    items: [`${P}/Weir House`],
    opens: 13.5,
    closes: 27.5,
    made: -2,
    password: true,
    limit: 12,
    used: 0,
    message: 'Everything for Weir House in one place.',
  },
  {
    title: 'As-built set',
    by: 'noel',
    items: [`${P}/Saltings bridge/SB-101 ground floor.pdf`, `${P}/Saltings bridge/SB-102 first floor.pdf`],
    opens: 7.6,
    closes: 16.6,
    made: -1.2,
    used: 0,
  },
  {
    title: 'Handover pack',
    by: 'rosa',
    items: [`${P}/Hartop yard`],
    opens: 8.5,
    closes: 22.5,
    made: -0.4,
    limit: 5,
    used: 0,
  },
  {
    ...{ title: 'December site rota', by: 'ada', items: ['Office/Site rota.csv'], group: 'Site crew' },
    ...{ opens: 6, closes: 34, made: -3, used: 0 },
  },
  {
    title: 'Scan 14 raw cloud',
    by: 'tomas',
    items: [`${P}/Mill Lane/Scans/Scan 14.las`],
    opens: -5,
    closes: -1,
    made: -5,
    limit: 4,
    used: 4,
  },
  {
    title: 'Culvert scan',
    by: 'sam',
    items: [`${P}/Fenway culvert/Scans/Scan 01.las`],
    opens: -4.4,
    closes: 5,
    made: -4.4,
    password: true,
    limit: 2,
    used: 2,
  },
  {
    title: 'Bridge sections',
    by: 'noel',
    items: [`${P}/Saltings bridge/Sections`],
    opens: -24,
    closes: -10,
    made: -24,
    limit: 6,
    used: 6,
  },
  {
    title: 'Old mill survey',
    by: 'iris',
    items: [`${P}/Mill Lane/Sections`],
    opens: -50,
    closes: -36,
    made: -50,
    limit: 3,
    used: 3,
  },
  {
    title: 'Draft fees',
    by: 'priya',
    items: ['Tenders/Fees draft.csv'],
    opens: -7,
    closes: 3,
    made: -7,
    password: true,
    used: 1,
    withdrawn: -4,
  },
  {
    title: 'First floor, superseded',
    by: 'hana',
    items: [`${P}/Orchard terrace/OT-102 first floor.pdf`],
    opens: -20,
    closes: 10,
    made: -20,
    used: 5,
    withdrawn: -6,
  },
  {
    title: 'Wrong photographs',
    by: 'leo',
    items: [`${P}/Quarry access/Notes.txt`],
    opens: -11,
    closes: 9,
    made: -11,
    used: 0,
    withdrawn: -10.9,
  },
  {
    title: 'Insurance letter',
    by: 'ada',
    items: ['Office/Insurance.pdf'],
    opens: -40,
    closes: -10,
    made: -40,
    used: 2,
    withdrawn: -25,
  },
  {
    title: 'Culvert section',
    by: 'rosa',
    items: [`${P}/Fenway culvert/Section C draft.pdf`],
    opens: -3,
    closes: 5,
    made: -3,
    used: 1,
    broken: true,
  },
  {
    title: 'Yard levels, week 45',
    by: 'leo',
    items: [`${P}/Hartop yard/Levels week 45.csv`],
    opens: -9,
    closes: 12,
    made: -9,
    used: 4,
    broken: true,
  },
  {
    title: 'Levels, week 46',
    by: 'hana',
    items: [`${P}/Orchard terrace/Levels`],
    opens: -9,
    closes: -2.4,
    made: -9,
    used: 6,
  },
  {
    title: 'Boundary plan B',
    by: 'rosa',
    items: [`${P}/Mill Lane/Boundary.dxf`],
    opens: -7,
    closes: -3,
    made: -7,
    used: 4,
  },
  {
    title: 'Photographs for the council',
    by: 'tomas',
    items: [`${P}/Fenway culvert/Photographs`],
    opens: -14,
    closes: -5.5,
    made: -14,
    used: 8,
  },
  {
    title: 'Weir House drawings, October',
    by: 'noel',
    items: [`${P}/Weir House/WH-101 ground floor.pdf`],
    opens: -45,
    closes: -15,
    made: -45,
    password: true,
    used: 11,
  },
  {
    title: 'Tender pack 1',
    by: 'priya',
    items: ['Tenders/Pack 1'],
    opens: -62,
    closes: -41,
    made: -62,
    password: true,
    used: 14,
  },
  {
    title: 'Forecourt scan',
    by: 'sam',
    items: [`${P}/Station forecourt/Scans/Scan 01.las`],
    opens: -33,
    closes: -26,
    made: -33,
    limit: 5,
    used: 2,
  },
  {
    title: 'Quarry control',
    by: 'leo',
    items: [`${P}/Quarry access/Control points.csv`],
    opens: -28,
    closes: -21,
    made: -28,
    used: 1,
  },
  {
    title: 'Autumn open day pictures',
    by: 'bram',
    items: ['Office/Open day'],
    opens: -70,
    closes: -40,
    made: -70,
    used: 19,
  },
  {
    title: 'Bridge notes',
    by: 'sam',
    items: [`${P}/Saltings bridge/Notes.txt`],
    opens: -55,
    closes: -48,
    made: -55,
    used: 2,
  },
  {
    title: 'Terrace elevation',
    by: 'edie',
    items: [`${P}/Orchard terrace/North elevation.png`],
    opens: -18,
    closes: -11,
    made: -18,
    used: 3,
  },
  {
    title: 'Yard drawings for pricing',
    by: 'rosa',
    items: [`${P}/Hartop yard/HY-101 ground floor.pdf`],
    opens: -21,
    closes: -8,
    made: -21,
    password: true,
    limit: 15,
    used: 9,
  },
];

/** Addresses that visitors come from (RFC 5737). */
export const VISITOR_ADDRESSES = [
  '192.0.2.14',
  '192.0.2.77',
  '198.51.100.8',
  '198.51.100.140',
  '203.0.113.21',
  '203.0.113.96',
];

/** The office's tags, and the items that bear them. */
export const TAGS: [name: string, colour: string, paths: string[]][] = [
  [
    'For issue',
    'lamp',
    ['Projects/2026/Mill Lane/ML-101 ground floor.pdf', 'Projects/2026/Mill Lane/ML-102 first floor.pdf'],
  ],
  ['Check levels', 'buoy', ['Projects/2026/Mill Lane/Control points.csv', 'Projects/2026/Mill Lane/Levels']],
  [
    'Client copy',
    'tide',
    ['Projects/2026/Mill Lane/ML-101 ground floor.pdf', 'Projects/2026/Mill Lane/North elevation.png'],
  ],
];

/** What iris has pinned, with the days since. */
export const PINS: [days: number, path: string][] = [
  [40, 'Projects/2026/Mill Lane'],
  [21, 'Office/Templates'],
  [6, 'Office/Site rota.csv'],
];
