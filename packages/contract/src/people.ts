import { ACCESS_LEVELS, DUTIES, type AccessLevel, type Duty, type Role } from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema, timeSchema } from './common.js';
import type { GrantFor } from './access.js';
import type { LedgerRow } from './ledger.js';
import { emailSchema, signInNameSchema } from './setup.js';
import type { SessionRow } from './session.js';
import type { SharedWithMe } from './shares.js';
import type { VisitorDoor } from './visitor.js';
import type { FolderPage, StoreSummary } from './stores.js';

/** `invited`: they have set no password yet; `disabled`: nobody signs in by it, and all it did stays. */
export const PERSON_STATES = ['usable', 'invited', 'disabled'] as const;
export type PersonState = (typeof PERSON_STATES)[number];

interface Named {
  id: string;
  name: string;
}

/** An account, as those see it who look after people. Times are RFC 3339. */
export interface PersonRow {
  id: string;
  name: string;
  signInName: string;
  email: string;
  role: Role;
  state: PersonState;
  duties: Duty[];
  /** The set that they have these duties by; null: those of their kind of account, or duties of their own. */
  dutySet: Named | null;
  /** The groups that they are in themselves. */
  groups: Named[];
  /** Null: never. */
  lastSeenAt: string | null;
  /** They have a second factor. */
  factor: boolean;
  /** The directory says what they are called, and whether their password is right. */
  directory: boolean;
  /** Of a guest: who answers for them, when the account ends by itself, and after how many days without use. */
  sponsor: Named | null;
  endsAt: string | null;
  quietDays: number | null;
}

/** Whoever is in a group. */
export interface GroupMember {
  kind: 'person' | 'group';
  id: string;
  name: string;
  since: string;
  /** By whom: somebody here, or the directory or the identity provider, which alone take them out again. */
  by: 'hand' | 'directory' | 'provider';
}

export interface GroupRow {
  id: string;
  name: string;
  members: GroupMember[];
  /** How many people are in it, through groups in it too. */
  people: number;
  /** Who may put people into it and take them out, beside those who look after people. */
  managers: Named[];
}

/** Something granted to somebody who has left a group that reaches the same by itself. */
export interface KeptGrant {
  person: Named;
  folder: Named;
  group: Named;
  grantId: string;
  level: AccessLevel;
  until: string | null;
  leftAt: string;
  /** Whoever asks may say who reaches the folder, and so end it. */
  canEnd: boolean;
}

/** Duties with a name: whoever has the set has exactly these, also when it changes. */
export interface DutySetRow extends Named {
  duties: Duty[];
}
const dutiesSchema = Joi.array()
  .items(Joi.string().valid(...DUTIES))
  .unique();
export interface NewDutySet {
  name: string;
  duties: Duty[];
}
const dutySetName = lineSchema.min(1).max(80);
export const newDutySetSchema = Joi.object<NewDutySet>({
  name: dutySetName.required(),
  duties: dutiesSchema.required(),
});
export type ChangeDutySet = Partial<NewDutySet>;
export const changeDutySetSchema = Joi.object<ChangeDutySet>({ name: dutySetName, duties: dutiesSchema }).min(1);

export interface People {
  people: PersonRow[];
  dutySets: DutySetRow[];
  groups: GroupRow[];
  kept: KeptGrant[];
}

/** What somebody reaches from a folder on: where their access begins, is more, or ends. */
export interface ReachedFolder {
  folderId: string;
  /** From the store down; of closed folders only those that who asks may know of. */
  path: string[];
  level: AccessLevel | null;
  /** They only say who reaches it. */
  onlyManages: boolean;
  until: string | null;
  /** Sentences without a subject, the one that decides first. */
  why: string[];
}

/** Everything about one account. */
export interface PersonSheet extends PersonRow {
  since: string;
  sessions: Omit<SessionRow, 'here'>[];
  /** Groups, also through other groups. */
  through: { group: Named; through: Named[] }[];
  reaches: ReachedFolder[];
  /** How many folders they reach are not shown here, because who asks may not say who reaches them. */
  hidden: number;
  acts: LedgerRow[];
}

/** What somebody was and reached at a moment of the past. */
export interface PersonThen extends Pick<PersonSheet, 'through' | 'reaches' | 'hidden'> {
  at: string;
  /** Null: they had no account that could be used. */
  role: Role | null;
  /** The groups that they were in themselves. */
  groups: Named[];
}
export const thenSchema = Joi.object<{ at: string }>({ at: timeSchema.required() });

/** The stores as somebody gets them. `hidden`: so many more are not whoever looks' to see. */
export interface SeenAs {
  person: Named & { role: Role };
  stores: StoreSummary[];
  hidden: number;
  /** What is shared with them, without the links; `hiddenShares`: so many more are not whoever looks' to see. */
  shares: SeenShareRow[];
  hiddenShares: number;
}
export interface SeenShareRow extends Omit<SharedWithMe, 'link'> {
  id: string;
}
/** The page of a share as somebody gets it: let in, where it is open. */
export interface SeenShare {
  person: Named & { role: Role };
  page: VisitorDoor;
}
/** A page of a folder as somebody gets it. */
export interface SeenFolder {
  person: Named & { role: Role };
  page: FolderPage;
  hidden: number;
}

export interface NewPerson {
  name: string;
  signInName: string;
  email: string;
  role: 'admin' | 'staff';
  groupIds: string[];
  by: HandOver;
}
/**
 * How somebody gets in who has no password yet: by a link that goes to them by mail, by one that is shown to whoever
 * asks, or by a password that is shown to them and that they change before anything else.
 */
export const HAND_OVERS = ['mail', 'link', 'password'] as const;
export type HandOver = (typeof HAND_OVERS)[number];
const handOver = Joi.string()
  .valid(...HAND_OVERS)
  .default('mail');
const personName = lineSchema.min(1).max(80);
export const newPersonSchema = Joi.object<NewPerson>({
  name: personName.required(),
  signInName: signInNameSchema.required(),
  email: emailSchema.required(),
  role: Joi.string().valid('admin', 'staff').default('staff'),
  groupIds: Joi.array().items(idSchema).max(100).unique().default([]),
  by: handOver,
});

/**
 * A link by which somebody sets a password, or signs in with the one that they have or are given; and how it was handed
 * over.
 */
export interface Invitation {
  personId: string;
  name: string;
  signInName: string;
  /**
   * On the address of the office; it is shown this once. Null: it went to them alone, because whoever uses it is them
   * from then on, and who asked is no admin.
   */
  link: string | null;
  /** Made for them; shown this once. Null: none was. */
  password: string | null;
  /** Of the link or the password. Null: it has no end, because they have a password already. */
  endsAt: string | null;
  /** The mail address that it was sent to; null: nobody sent it. */
  mailedTo: string | null;
}

export interface ChangePerson {
  name?: string;
  signInName?: string;
  email?: string;
  role?: Role;
  /** Of their own: a set is left. */
  duties?: Duty[];
  /** The set that they have from then on; null: what their kind of account begins with. */
  dutySetId?: string | null;
  /** Of a guest. */
  sponsorId?: string;
  endsAt?: string | null;
  quietDays?: number | null;
}
const quietDays = Joi.number().integer().min(1).max(3650);
export const inviteSchema = Joi.object<{ by: HandOver }>({ by: handOver });
export const changePersonSchema = Joi.object<ChangePerson>({
  name: personName,
  signInName: signInNameSchema,
  email: emailSchema,
  role: Joi.string().valid('admin', 'staff', 'guest'),
  duties: dutiesSchema,
  dutySetId: idSchema.allow(null),
  sponsorId: idSchema,
  endsAt: timeSchema.allow(null),
  quietDays: quietDays.allow(null),
})
  .min(1)
  .oxor('duties', 'dutySetId');

/** A person of a list that is taken in. */
export interface ImportRow {
  /** Of the file, so that a fault can be found there. */
  line: number;
  name: string;
  email: string;
  signInName: string;
  /** By their names. */
  groups: string[];
}
export interface ImportPeople {
  rows: ImportRow[];
  mail: boolean;
  /** Whether groups that are not there yet are made. */
  makeGroups: boolean;
  /** False: it is only said what would happen. */
  keep: boolean;
}
const cell = Joi.string().allow('').max(400).required();
export const importPeopleSchema = Joi.object<ImportPeople>({
  rows: Joi.array()
    .items(
      Joi.object({
        line: Joi.number().integer().min(1).max(1_000_000).required(),
        ...{ name: cell, email: cell, signInName: cell },
        groups: Joi.array().items(Joi.string().max(400)).max(50).required(),
      }),
    )
    .min(1)
    .max(1000)
    .required(),
  mail: Joi.boolean().required(),
  makeGroups: Joi.boolean().required(),
  keep: Joi.boolean().required(),
});

/** What becomes of a line. `there`: somebody has that mail address or name already, and stays as they are. */
export interface ImportLine {
  line: number;
  name: string;
  outcome: 'added' | 'there' | 'fault';
  words: string;
}
export interface ImportAnswer {
  lines: ImportLine[];
  newGroups: string[];
  /** Only where it was kept. */
  invitations: Invitation[];
}

/** What somebody who leaves leaves behind. */
export interface Leaving {
  sessions: number;
  groups: Named[];
  /** Groups that they manage. */
  manages: Named[];
  /** What was granted to them alone. */
  grants: { folder: Named; level: AccessLevel }[];
  /** Guests they answer for. */
  guests: Named[];
  /** Links of theirs that could still be opened, the first few. */
  shares: { id: string; title: string; closesAt: string | null; fromHome: boolean }[];
  moreShares: number;
  home: { usedBytes: number } | null;
  /** Who could take over. */
  takers: Named[];
  /** Null: they are still there. */
  left: { at: string; by: string; homeUntil: string | null; canReturn: boolean } | null;
}

/** Who takes over what; null: what went out is withdrawn, guests have nobody, the home is kept. */
export interface Leave {
  sharesTo: string | null;
  /** Shares that somebody else than that takes over. */
  shares: { shareId: string; toPersonId: string | null }[];
  guestsTo: string | null;
  homeTo: string | null;
  /** Days until the home is removed for good; null: never by itself. */
  homeDays: number | null;
}
const taker = idSchema.allow(null).default(null);
export const leaveSchema = Joi.object<Leave>({
  sharesTo: taker,
  shares: Joi.array()
    .items(Joi.object({ shareId: idSchema.required(), toPersonId: idSchema.allow(null).required() }))
    .max(500)
    .default([]),
  guestsTo: taker,
  homeTo: taker,
  homeDays: Joi.number().integer().min(1).max(3650).allow(null).default(90),
});

/** What is done to several accounts at once. */
export const PEOPLE_ACTS = ['disable', 'enable', 'sign-out'] as const;
export type PeopleAct = (typeof PEOPLE_ACTS)[number];
export interface ActOnPeople {
  act: PeopleAct;
  personIds: string[];
}
export const actOnPeopleSchema = Joi.object<ActOnPeople>({
  act: Joi.string()
    .valid(...PEOPLE_ACTS)
    .required(),
  personIds: Joi.array().items(idSchema).min(1).max(500).unique().required(),
});

/** A person from outside who gets an account, and something to do with it. */
export interface NewGuest {
  name: string;
  email: string;
  /** What they get, where. */
  folderId: string;
  level: AccessLevel;
  endsAt: string | null;
  quietDays: number | null;
  by: HandOver;
}
export const newGuestSchema = Joi.object<NewGuest>({
  name: personName.required(),
  email: emailSchema.required(),
  folderId: idSchema.required(),
  level: Joi.string()
    .valid(...ACCESS_LEVELS.filter((level) => level !== 'manage'))
    .required(),
  endsAt: timeSchema.allow(null).default(null),
  quietDays: quietDays.allow(null).default(90),
  by: handOver,
});

const groupName = lineSchema.min(1).max(80);
export const groupNameSchema = Joi.object<{ name: string }>({ name: groupName.required() });
export interface MemberAsked {
  kind: 'person' | 'group';
  id: string;
}
export const memberKindSchema = Joi.string<MemberAsked['kind']>().valid('person', 'group').required();
export const memberSchema = Joi.object<MemberAsked>({
  kind: memberKindSchema,
  id: idSchema.required(),
});
export const managersSchema = Joi.object<{ personIds: string[] }>({
  personIds: Joi.array().items(idSchema).max(20).unique().required(),
});

/** A folder of the table of who reaches what. */
export interface TableFolder {
  id: string;
  name: string;
  storeId: string;
  storeName: string;
  /** The nearest folder above it that is in the table; null: a store's own. */
  above: string | null;
  /** It takes nothing over from above. */
  closed: boolean;
}

/** Somebody, or a group, of the table. */
export interface TableRow {
  kind: 'group' | 'person' | 'guest' | 'staff' | 'links';
  id: string;
  name: string;
  /**
   * A character for each folder: `.` nothing; v, d, c, e, m: the level, taken over from above or by a group above; as a
   * capital: granted on this very folder; `k`: only says who reaches it.
   */
  cells: string;
}

/** Who reaches what at a moment. */
export interface AccessTableAnswer {
  at: string;
  folders: TableFolder[];
  rows: TableRow[];
}
export const momentSchema = Joi.object<{ at?: string }>({ at: timeSchema });

/** One change of who may what, as it can be tried before it is done. */
export type AccessTrial =
  | { grant: { folderId: string; subject: { kind: GrantFor['kind']; id?: string }; level: AccessLevel } }
  | { replace: { grantId: string; level: AccessLevel } }
  | { end: { grantId: string } }
  | { inherits: { folderId: string; inherits: boolean } }
  | { join: { groupId: string; member: MemberAsked } }
  | { leave: { groupId: string; member: MemberAsked } };
const level = Joi.string()
  .valid(...ACCESS_LEVELS)
  .required();
const membership = Joi.object({ groupId: idSchema.required(), member: memberSchema.required() });
export const accessTrialSchema = Joi.object({
  grant: Joi.object({
    folderId: idSchema.required(),
    subject: Joi.object({
      kind: Joi.string().valid('person', 'group', 'staff').required(),
      id: Joi.when('kind', { is: 'staff', then: Joi.forbidden(), otherwise: idSchema.required() }),
    }).required(),
    level,
  }),
  replace: Joi.object({ grantId: idSchema.required(), level }),
  end: Joi.object({ grantId: idSchema.required() }),
  inherits: Joi.object({ folderId: idSchema.required(), inherits: Joi.boolean().required() }),
  join: membership,
  leave: membership,
}).xor('grant', 'replace', 'end', 'inherits', 'join', 'leave');

/** Another level somewhere than before. */
export interface ShiftRow {
  person: Named;
  guest: boolean;
  folder: Named;
  was: AccessLevel | null;
  is: AccessLevel | null;
  /** Folders in it for which the same holds. */
  below: number;
}

/** What a change would do, or has done between two moments. */
export interface AccessShifts {
  /** In words: "4 people gain, 1 loses". */
  words: string;
  shifts: ShiftRow[];
  /** How many there are beside those that are listed. */
  more: number;
}
export interface ShiftsBetween extends AccessShifts {
  since: string;
  until: string;
  /** Who changed who may what meanwhile, and how often. */
  by: { name: string; times: number }[];
}
export const betweenSchema = Joi.object<{ since: string; until?: string }>({
  since: timeSchema.required(),
  until: timeSchema,
});

/** When something changed of who may what. */
export interface AccessMoments {
  /** RFC 3339, in order; several changes of one hour are one. */
  moments: { at: string; changes: number }[];
}

/** A question about who may what, as it is typed: "who can open Payroll". */
export interface AskAccess {
  text: string;
  /** The folder that is looked at, for "here". */
  here?: string;
}
export const askAccessSchema = Joi.object<AskAccess>({ text: lineSchema.min(1).max(200).required(), here: idSchema });

/** What it comes to. */
export interface AccessAnswer {
  /** False: the question is none that is understood. */
  understood: boolean;
  /** The answer in a sentence. */
  words: string;
  /** Whatever there is beside it, a line each. */
  lines: string[];
  folder: Named | null;
  person: Named | null;
  /** The smallest change that would let them. */
  mend: {
    words: string;
    folderId: string;
    trial: AccessTrial;
    /** The end that what they have keeps. */
    until: string | null;
  } | null;
}
