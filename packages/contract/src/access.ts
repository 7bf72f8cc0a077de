import { ACCESS_LEVELS, OTHERS_RULES, type AccessLevel, type OthersRule } from '@quay/core';
import Joi from 'joi';
import { idSchema, timeSchema } from './common.js';

/** Whom a grant is for: a person, a group, or everybody with an account who is no guest. */
export interface GrantFor {
  kind: 'person' | 'group' | 'staff';
  /** Null for all staff. */
  id: string | null;
  name: string;
}

export interface GrantRow {
  id: string;
  folderId: string;
  /** Null where who asks does not see that folder. */
  folderName: string | null;
  subject: GrantFor;
  level: AccessLevel;
  /** Times are RFC 3339. */
  since: string;
  until: string | null;
  grantedBy: string | null;
  endedAt: string | null;
  endedBy: string | null;
  state: 'holds' | 'coming' | 'over';
}

/** Somebody who may do something in a folder. */
export interface Reacher {
  personId: string;
  name: string;
  guest: boolean;
  /** Null where they may only say who reaches it. */
  level: AccessLevel | null;
  /** When that changes by itself; null: not by itself. */
  until: string | null;
  /** Sentences without a subject, the one that decides first: "Can edit: granted on Projects to Site crew." */
  why: string[];
}

/** Who may do what in a folder, and why. */
export interface FolderAccess {
  folderId: string;
  name: string;
  /** Homes are their owner's: nothing is granted in them. */
  home: boolean;
  /** Whether it takes over what is granted above it; a store's own folder has nothing above. */
  inherits: boolean;
  top: boolean;
  /** What those who may add files see of what others brought: by the folder's own rule, or by one above it. */
  othersRule: OthersRule;
  othersRuleHere: OthersRule | null;
  /** Whether who asks may change all this. */
  manages: boolean;
  /** What counts here, from here and from above; then what was granted here and is over. */
  grants: GrantRow[];
  over: GrantRow[];
  people: Reacher[];
  /** Folders in it that take nothing over and are closed to who asks, who may still say who reaches them. */
  closed: { id: string; name: string }[];
}

export interface NewGrant {
  subject: { kind: GrantFor['kind']; id?: string };
  level: AccessLevel;
  /** From now on, unless said otherwise. */
  since?: string;
  until: string | null;
}
const level = Joi.string().valid(...ACCESS_LEVELS);
export const newGrantSchema = Joi.object<NewGrant>({
  subject: Joi.object({
    kind: Joi.string().valid('person', 'group', 'staff').required(),
    id: Joi.when('kind', { is: 'staff', then: Joi.forbidden(), otherwise: idSchema.required() }),
  }).required(),
  level: level.required(),
  since: timeSchema,
  until: timeSchema.allow(null).default(null),
});

/** A grant is never changed: the old one ends, and the new one begins. */
export interface ReplaceGrant {
  level: AccessLevel;
  until: string | null;
}
export const replaceGrantSchema = Joi.object<ReplaceGrant>({
  level: level.required(),
  until: timeSchema.allow(null).required(),
});

/** With whom a folder begins that takes nothing over any more: as now, with whoever closes it, or with nobody. */
export const BEGINNINGS = ['as-now', 'me', 'nobody'] as const;
export interface ChangeFolderAccess {
  inherits?: boolean;
  beginsWith?: (typeof BEGINNINGS)[number];
  /** Null: as above. */
  othersRule?: OthersRule | null;
}
export const changeFolderAccessSchema = Joi.object<ChangeFolderAccess>({
  inherits: Joi.boolean(),
  beginsWith: Joi.string().valid(...BEGINNINGS),
  othersRule: Joi.string()
    .valid(...OTHERS_RULES)
    .allow(null),
})
  .or('inherits', 'othersRule')
  .with('beginsWith', 'inherits');

export interface ExplainQuery {
  personId?: string;
  /** What whoever joins this group gets by that alone. */
  groupId?: string;
  at?: string;
}
export const explainQuerySchema = Joi.object<ExplainQuery>({
  personId: idSchema,
  groupId: idSchema,
  at: timeSchema,
}).oxor('personId', 'groupId');
/** What somebody could do in a folder at a moment, and why, or why not. */
export interface Explanation {
  /** Of the person, or of the group. */
  personId: string;
  name: string;
  at: string;
  level: AccessLevel | null;
  why: string[];
  /** By which of them, for whoever may change that. */
  grants: GrantRow[];
}

/** Whom something can be granted. */
export interface Grantable {
  people: { id: string; name: string; guest: boolean }[];
  groups: { id: string; name: string; people: number }[];
}

export const handOverSchema = Joi.object<{ toPersonId: string }>({ toPersonId: idSchema.required() });
/** A home, and whose it is. */
export interface HomeRow {
  storeId: string;
  ownerId: string;
  ownerName: string;
  /** When its owner's account was disabled; null while it can be used. */
  ownerLeftAt: string | null;
  usedBytes: number;
}
