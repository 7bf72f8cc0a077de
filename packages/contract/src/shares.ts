import {
  AUDIENCES,
  LONGEST_DAYS_RANGE,
  MOST_RAIL_ADDRESSES,
  MOST_RAIL_DOMAINS,
  type Guardrails,
  type NamedGuardrails,
  type RailFault,
  SHARE_LEVELS,
  TAKES_BYTES_RANGE,
  type ShareMay,
  MOST_RECIPIENTS,
  type AudienceKind,
  type BarStep,
  type FindingKind,
  type ReachMark,
  type RefusalReason,
  PASSWORD_LENGTH,
  SHARE_COLUMNS,
  SHARE_FACETS,
  SHARE_STATES,
  TIDY_KINDS,
  type ShareColumn,
  type ShareFacet,
  type TidyKind,
  VISIT_LIMIT_RANGE,
  WATERMARKS,
  WINDOW_PRESETS,
  type MomentLater,
  type WindowPreset,
  type SentencePart,
  type ShareState,
} from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema, nameSchema, timeSchema } from './common.js';
import { MOST_ITEMS, type NodeIds } from './stores.js';

export interface WindowText {
  opensAt: string | null;
  closesAt: string | null;
}

const title = lineSchema.min(1).max(120);
const message = Joi.string().trim().allow('').max(2000);
const windowSchema = Joi.object<WindowText>({
  opensAt: timeSchema.allow(null).required(),
  closesAt: timeSchema.allow(null).required(),
});
function limitOf(what: string): Joi.NumberSchema {
  const { min, max } = VISIT_LIMIT_RANGE;
  const words = `${what} is a whole number from ${min} to ${max.toLocaleString('en-GB')}.`;
  return Joi.number().integer().min(min).max(max).allow(null).messages({
    'number.min': words,
    'number.max': words,
    'number.integer': words,
    'number.base': words,
    'number.unsafe': words,
  });
}
const visitLimit = limitOf('A visit limit');
const items = Joi.array().items(idSchema).max(MOST_ITEMS).unique();
const password = Joi.string().min(PASSWORD_LENGTH.min).max(PASSWORD_LENGTH.max).allow(null);

/** Whom a share is for. */
export interface AudienceAsked {
  kind: AudienceKind;
  /** Of `listed`: addresses, domains and `*.domain`. */
  listed: string[];
  /** Of `verified` and `listed`: who is not let in, whatever the list says. */
  blocked: string[];
  /** Of `members`. */
  members: { kind: 'person' | 'group'; id: string }[];
}
const entries = Joi.array()
  .items(Joi.string().trim().min(1).max(320))
  .max(MOST_RECIPIENTS)
  .default([])
  .messages({ 'array.max': `A list has at most ${MOST_RECIPIENTS.toLocaleString('en-GB')} entries.` });
export const audienceSchema = Joi.object<AudienceAsked>({
  kind: Joi.string()
    .valid(...AUDIENCES)
    .required(),
  listed: entries,
  blocked: entries,
  members: Joi.array()
    .items(Joi.object({ kind: Joi.string().valid('person', 'group').required(), id: idSchema.required() }))
    .max(200)
    .unique('id')
    .default([]),
});
/** What visitors may do. */
const may = Joi.object<ShareMay>({
  level: Joi.string()
    .valid(...SHARE_LEVELS)
    .required(),
  seesOthers: Joi.boolean().required(),
  takesBytes: Joi.number().integer().min(TAKES_BYTES_RANGE.min).max(TAKES_BYTES_RANGE.max).required(),
  watermark: Joi.string()
    .valid(...WATERMARKS)
    .default('none'),
  fileLimit: limitOf('How often a file may be taken').default(null),
});

/** Somebody who may be meant: an entry of a list as it is typed, and what is known of it. */
export interface KnownRecipient {
  entry: string;
  /** Of a person with an account. */
  name: string | null;
  /** When a share last went there; null: none did. */
  lastAt: string | null;
}

/** The same as it stands, with names. */
export interface ShareAudience extends Omit<AudienceAsked, 'members'> {
  members: { kind: 'person' | 'group'; id: string; name: string }[];
}

export interface CreateShare {
  title: string;
  message: string;
  /** Served as they are at the time. None at all: the share is filled later. */
  nodeIds: string[];
  /** Served as they are now, whatever becomes of them. */
  frozenIds?: string[];
  window: WindowText;
  password: string | null;
  /** Keep a password that is easy to guess, knowing it. */
  weakPasswordMeant: boolean;
  visitLimit: number | null;
  /** Its files go to the trash when it closes, each with the last share that needs it. */
  removesFiles?: boolean;
  /** The address its link is built on; left out: the default. */
  addressId?: string;
  /** Left out: anyone. */
  audience?: AudienceAsked;
  /** Left out: they download. */
  may?: ShareMay;
}
export const createShareSchema = Joi.object<CreateShare>({
  title: title.required(),
  message: message.default(''),
  nodeIds: items.required(),
  frozenIds: items,
  window: windowSchema.required(),
  password: password.required(),
  weakPasswordMeant: Joi.boolean().default(false),
  visitLimit: visitLimit.required(),
  removesFiles: Joi.boolean(),
  addressId: idSchema,
  audience: audienceSchema,
  may,
});

/** What is put on a share that is out, as it is at the time or as it is now, and what is taken off it. */
export interface ChangeItems {
  add: string[];
  addFrozen: string[];
  takeOff: string[];
}

/** Every member may be left out: what is not named stays. `password: null` takes the password off. */
export interface ChangeShare {
  title?: string;
  message?: string;
  window?: WindowText;
  password?: string | null;
  weakPasswordMeant?: boolean;
  visitLimit?: number | null;
  removesFiles?: boolean;
  addressId?: string;
  audience?: AudienceAsked;
  may?: ShareMay;
  items?: ChangeItems;
  withdrawn?: boolean;
}
export const changeShareSchema = Joi.object<ChangeShare>({
  title,
  message,
  window: windowSchema,
  password,
  weakPasswordMeant: Joi.boolean(),
  visitLimit,
  removesFiles: Joi.boolean(),
  addressId: idSchema,
  audience: audienceSchema,
  may,
  items: Joi.object<ChangeItems>({
    add: items.default([]),
    addFrozen: items.default([]),
    takeOff: items.default([]),
  }),
  withdrawn: Joi.boolean(),
}).min(1);

/** Where files go that are dropped on the slip: what there is room for, and how long it stays. */
export interface Outgoing {
  /** Without a home there is no such folder. */
  hasHome: boolean;
  usedBytes: number;
  limitBytes: number;
  /** After so many days in no share that could be opened, something goes to the trash. */
  clearAfterDays: number;
}
/** A folder that was made for what is about to be dropped. */
export interface DropPlace {
  id: string;
  name: string;
}
export interface AskDropPlace {
  name: string;
  /** The folder it is made in; left out: in the one for what goes out. */
  folderId?: string;
}
export const dropPlaceSchema = Joi.object<AskDropPlace>({ name: nameSchema.required(), folderId: idSchema });

export interface ShareRow extends WindowText {
  id: string;
  /** True for a share from somebody's home, which others see only that it exists; the admin may withdraw it. */
  closed: boolean;
  title: string;
  state: ShareState;
  itemCount: number;
  totalBytes: number;
  audience: AudienceKind;
  hasPassword: boolean;
  visitLimit: number | null;
  visitsUsed: number;
  lastVisitAt: string | null;
  createdAt: string;
  createdBy: string;
  withdrawnAt: string | null;
  /** How the address of its link was last found from outside. */
  reach: ReachMark;
  /** Why the link cannot work outside the office; null when it can. */
  portability: string | null;
}

export const SHARE_SORTS = ['made', 'closes', 'title', 'visited'] as const;
/** By when it was made, by when it closes, by title, by its last visit. */
export type ShareSort = (typeof SHARE_SORTS)[number];

export interface ShareListQuery {
  state?: ShareState;
  facet?: ShareFacet;
  /** Words, each of which the title or the publisher's name must hold. */
  find?: string;
  /** Whose they are. */
  by?: string;
  sort: ShareSort;
  descending: boolean;
  after?: string;
  limit: number;
}
export const shareListQuerySchema = Joi.object<ShareListQuery>({
  state: Joi.string().valid(...SHARE_STATES),
  facet: Joi.string().valid(...SHARE_FACETS),
  find: lineSchema.max(200),
  by: idSchema,
  sort: Joi.string()
    .valid(...SHARE_SORTS)
    .default('made'),
  descending: Joi.boolean().default(true),
  after: Joi.string().max(2000),
  limit: Joi.number().integer().min(1).max(200).default(100),
});

export interface ShareList {
  shares: ShareRow[];
  /** Pass as `after` for the next page; null on the last. */
  next: string | null;
  /** How many there are in each state, whichever state and facet are asked for; null on later pages. */
  counts: Record<ShareState, number> | null;
  /** The same of each facet. */
  facets: Record<ShareFacet, Record<ShareState, number>> | null;
}

/** How somebody likes their list of shares. */
export interface ShareListView {
  columns: ShareColumn[];
  /** What they ask for often: as it stands in the address of the list. */
  filters: { name: string; query: string }[];
}
export const shareListViewSchema = Joi.object<ShareListView>({
  columns: Joi.array()
    .items(Joi.string().valid(...SHARE_COLUMNS))
    .unique()
    .required(),
  filters: Joi.array()
    .items(
      Joi.object({
        name: lineSchema.min(1).max(60).required(),
        query: Joi.string()
          .max(2000)
          .pattern(/^[a-zA-Z]+=[^&#/]*(&[a-zA-Z]+=[^&#/]*)*$/)
          .required(),
      }),
    )
    .unique('name')
    .max(30)
    .required()
    .messages({ 'array.max': 'At most 30 filters are kept. Forget one that you do not use any more.' }),
});

/** What may be taken off the list for good. */
export interface TidyPreview {
  kinds: {
    kind: TidyKind;
    count: number;
    /** Some of them. */
    titles: string[];
    /** Hardly anybody opens it again. */
    isOverForLong: boolean;
  }[];
}
export interface TidyAsked {
  kinds: TidyKind[];
}
export const tidySchema = Joi.object<TidyAsked>({
  kinds: Joi.array()
    .items(Joi.string().valid(...TIDY_KINDS))
    .unique()
    .min(1)
    .required(),
});
/** What was taken off, and how much of that kind is left: it is asked for again. */
export interface Tidied {
  removed: number;
  left: number;
}

export interface SharesTodayQuery {
  from: string;
  to: string;
}
export const sharesTodayQuerySchema = Joi.object<SharesTodayQuery>({
  from: timeSchema.required(),
  to: timeSchema.required(),
});

/** A share with its visits, for the ticks on the chart: each at the beginning of its ten minutes, once. */
export interface ChartShare extends ShareRow {
  visitTimes: string[];
}

export interface SharesToday {
  open: number;
  /** Whether there is any share at all. */
  any: boolean;
  /** Whose windows lie in the span, those that end next first; and how many more there are. */
  windows: ChartShare[];
  moreWindows: number;
  /** What needs a hand, in order of harm; and how much more does. */
  needing: { kind: FindingKind; share: ShareRow }[];
  moreNeeding: number;
}

export interface ShareItemRow {
  id: string;
  name: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
  /** Null: it is served as it is at the time. */
  frozenAt: string | null;
  /** In the trash. */
  gone: boolean;
  place: string;
}

/** A file that visitors brought into a share. */
export interface BroughtFile {
  id: string;
  name: string;
  folderId: string;
  sizeBytes: number;
  /** As somebody proved to be; or where they were. */
  who: string;
  at: string;
  /** Their present version replaced another one. */
  replaced: boolean;
}

export interface ShareSheet extends ShareRow {
  /** Guardrails that it does not keep to, and since when they keep it closed. */
  railFaults: RailFault[];
  barredAt: string | null;
  may: ShareMay;
  /** What visitors brought into it, the last first, as far as it is there and whoever asks sees it; all of it, in bytes. */
  brought: BroughtFile[];
  broughtBytes: number;
  removesFiles: boolean;
  /** Whether whoever asks may put items on it: what a share serves is what its publisher may publish. */
  mayAdd: boolean;
  message: string;
  whoIsMeant: ShareAudience;
  link: string;
  address: string;
  addressId: string;
  sentence: SentencePart[];
  items: ShareItemRow[];
  /** `archive`: everything was taken as one archive. */
  /** `who`: the address that was proven, or who was signed in; null where anyone may. */
  visits: { id: string; beganAt: string; from: string; who: string | null; files: number; archive: boolean }[];
  /** Those who were refused, by source, reason and hour, the last first; `from` null: many sources. And how many tries. */
  refused: { at: string; from: string | null; reason: RefusalReason; count: number }[];
  refusedTotal: number;
  /** The newest, and how many there are; the ledger has all. */
  history: { at: string; kind: string; who: string; words: string }[];
  historyTotal: number;
}

/** Who took something: as whom they were let in, or the name of their visit. */
export interface TakenBy {
  who: string;
  isKnown: boolean;
}

/** What came of a share. */
export interface CameOfIt {
  /** Visits over time: bar n lies between edges n and n + 1; bars without a visit are left out. */
  step: BarStep;
  edges: string[];
  bars: { bar: number; visits: number; took: number }[];
  /** Files that were taken one by one, those that most visits took first; how many there are; a few of those who did. */
  files: { id: string; name: string; visits: number; lastAt: string; by: TakenBy[] }[];
  filesTotal: number;
  /** Visits that took everything as one. */
  everything: { visits: number; by: TakenBy[] };
  /** Other shares with an item of this one. */
  related: { id: string; title: string; state: ShareState }[];
}

/** A share that is for whoever asks: they are a member, or their address is on its list. */
export interface SharedWithMe extends WindowText {
  title: string;
  sender: string;
  link: string;
  state: 'open' | 'scheduled';
  hasPassword: boolean;
  /** A code is sent to their address when they open it. */
  byCode: boolean;
}

/** The liveliest state among the shares that publish each item itself, by node id. */
export type ShareMarks = Record<string, ShareState>;

/** The shares that could be opened and hold each item itself, or froze it within a folder; by node id. */
export type SharesUsing = Record<string, { id: string; title: string; state: ShareState }[]>;

/** The shares that need items when another closes, by node id: their titles, null from homes of others, and their end. */
export type FilesStay = Record<string, { title: string | null; closesAt: string | null }[]>;
export interface AskStays extends NodeIds {
  /** The share that closes, where it is out already. */
  exceptShareId?: string;
}
export const askStaysSchema = Joi.object<AskStays>({ nodeIds: items.min(1).required(), exceptShareId: idSchema });

/** Choices of the slip that are kept for later shares. */
export interface TemplateTerms {
  message: string;
  audience: AudienceAsked;
  /** A preset; or both ends, counted from the day of use, null for none. */
  window: { preset: WindowPreset } | { opens: MomentLater | null; closes: MomentLater | null };
  /** Whether a password is proposed. */
  password: boolean;
  visitLimit: number | null;
  removesFiles: boolean;
  /** Left out: they download. */
  may?: ShareMay;
  /** The folder that files go to which are dropped on the slip; left out: the one for what goes out. */
  place?: DropPlace;
}
export interface SlipTemplate {
  id: string;
  name: string;
  /** For all of the office; else whoever asks has it for themselves. */
  office: boolean;
  terms: TemplateTerms;
}
export type KeepTemplate = Omit<SlipTemplate, 'id'>;
const later = Joi.object<MomentLater>({
  days: Joi.number().integer().min(0).max(3650).required(),
  at: Joi.string()
    .pattern(/^([01]\d|2[0-3]):[0-5]\d$/)
    .required(),
}).allow(null);
export const keepTemplateSchema = Joi.object<KeepTemplate>({
  name: lineSchema.min(1).max(80).required(),
  office: Joi.boolean().required(),
  terms: Joi.object<TemplateTerms>({
    message: message.required(),
    audience: audienceSchema.required(),
    window: Joi.alternatives(
      Joi.object({
        preset: Joi.string()
          .valid(...WINDOW_PRESETS)
          .required(),
      }),
      Joi.object({ opens: later.required(), closes: later.required() }),
    ).required(),
    password: Joi.boolean().required(),
    visitLimit: visitLimit.required(),
    removesFiles: Joi.boolean().required(),
    may,
    place: Joi.object<DropPlace>({ id: idSchema.required(), name: Joi.string().max(255).required() }),
  }).required(),
});
/** Templates that one person has, and that the office has. */
export const MOST_TEMPLATES = 100;

/** What holds for all shares of the office. */
export interface ShareRules {
  /** Addresses, domains and `*.domain` that no share lets in by a code, whatever its list says. */
  blocked: string[];
}
export const shareRulesSchema = Joi.object<ShareRules>({ blocked: entries });

/** The private address of a calendar, from the root of the server; null: there is none. */
export interface CalendarLink {
  path: string | null;
}

/** The shares around one item. Times are RFC 3339. */
export type NodeShares = {
  id: string;
  title: string;
  state: ShareState;
  /** The shared folder above it; null when the item itself is shared. */
  through: string | null;
  lastVisitAt: string | null;
  /** When a visitor last took this very item. */
  lastTakenAt: string | null;
  /** Whether the share's page may be opened by who asks. */
  mine: boolean;
}[];

/** Guardrails as they are typed: domains as texts, addresses of links by their ids. */
export type GuardrailsAsked = Omit<Guardrails, 'domains' | 'addresses'> & { domains: string[]; addresses: string[] };
export const guardrailsSchema = Joi.object<GuardrailsAsked>({
  longestDays: Joi.number()
    .integer()
    .min(LONGEST_DAYS_RANGE.min)
    .max(LONGEST_DAYS_RANGE.max)
    .allow(null)
    .required()
    .messages({ '*': `Days are a whole number from ${LONGEST_DAYS_RANGE.min} to ${LONGEST_DAYS_RANGE.max}.` }),
  endNeeded: Joi.boolean().required(),
  passwordNeeded: Joi.boolean().required(),
  strongPassword: Joi.boolean().required(),
  audiences: Joi.array()
    .items(Joi.string().valid(...AUDIENCES))
    .unique()
    .min(1)
    .required()
    .messages({ 'array.min': 'Allow at least one: else nothing could be shared.' }),
  levels: Joi.array()
    .items(Joi.string().valid(...SHARE_LEVELS))
    .unique()
    .min(1)
    .required()
    .messages({ 'array.min': 'Allow at least one: else nothing could be shared.' }),
  mostVisits: visitLimit.required(),
  domains: Joi.array().items(Joi.string().trim().min(1).max(320)).max(MOST_RAIL_DOMAINS).required(),
  addresses: Joi.array().items(idSchema).max(MOST_RAIL_ADDRESSES).unique().default([]),
  watermarkNeeded: Joi.boolean().default(false),
  factorNeeded: Joi.boolean().required(),
});

/** The guardrails of the office and of each store; null: a store has none of its own. */
export interface GuardrailsKept {
  office: Guardrails;
  stores: { storeId: string; name: string; rules: Guardrails | null }[];
}
/** The guardrails that hold for what is about to be shared, and whether whoever shares it has a second factor. */
export interface GuardrailsFor {
  guardrails: NamedGuardrails[];
  hasFactor: boolean;
}
export const guardrailsForSchema = Joi.object<NodeIds>({ nodeIds: items.required() });
/** What other guardrails would do to shares and intakes that are out. */
export interface GuardrailTrial {
  /** Those that would be closed, some of them; `title` null: it is closed to whoever asks. */
  closes: { kind: 'share' | 'intake'; id: string; title: string | null; by: string; words: string }[];
  more: number;
  /** How many would open again. */
  opens: number;
}
