import { DIRECTORY_PRESETS, type DirectoryChange, type DirectoryPreset, type DirectorySchema } from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema } from './common.js';
import { hostSchema } from './reach.js';

/** Where a directory answers. */
export interface DirectoryServer {
  host: string;
  port: number;
}

/** How the office's directory is asked (LDAP, RFC 4511). Passwords go over encrypted lines only. */
export interface DirectorySettings {
  /** Tried in this order. */
  servers: DirectoryServer[];
  /** `ldaps`: encrypted from the first byte; `starttls`: after a request for it (RFC 4511 §4.14). */
  encryption: 'ldaps' | 'starttls';
  /** Certificates of authorities that are trusted beside the usual ones, as PEM; empty: none. */
  roots: string;
  /** As whom the directory is read. */
  bindDn: string;
  /** Under which all is looked for. */
  base: string;
  preset: DirectoryPreset;
  schema: DirectorySchema;
  /** Branches that are followed: who is new there gets an account. */
  branches: string[];
  /** For so many days after they last signed in, people may while no server of the directory answers; 0: they may not. */
  awayDays: number;
}
/** Null: the one that is kept. */
export type KeepDirectory = DirectorySettings & { bindPassword: string | null };

const dn = Joi.string().trim().max(1000).allow('');
const attribute = Joi.string()
  .trim()
  .pattern(/^[A-Za-z][A-Za-z0-9.;-]*$/)
  .max(80);
const attributes = Joi.array().items(attribute).max(5);
const filter = Joi.string().trim().min(3).max(1000);
const schema = Joi.object<DirectorySchema>({
  personFilter: filter.required(),
  groupFilter: filter.required(),
  idAttribute: attribute.required(),
  nameAttributes: attributes.min(1).required(),
  emailAttributes: attributes.min(1).required(),
  signInAttributes: attributes.min(1).required(),
  alsoAttributes: attributes.required(),
  groupNameAttributes: attributes.min(1).required(),
  memberAttributes: attributes.required(),
  memberOfAttribute: attribute.allow('').required(),
  disabledAttribute: attribute.allow('').required(),
  disabledBit: Joi.number().integer().min(1).max(0x40000000).allow(null).required(),
});
export const keepDirectorySchema = Joi.object<KeepDirectory>({
  servers: Joi.array()
    .items(
      Joi.object<DirectoryServer>({
        host: hostSchema.required(),
        port: Joi.number().port().required(),
      }),
    )
    .min(1)
    .max(5)
    .required(),
  encryption: Joi.valid('ldaps', 'starttls').required(),
  roots: Joi.string().max(60_000).allow('').required(),
  bindDn: dn.min(1).disallow('').required(),
  bindPassword: Joi.string().min(1).max(500).allow(null).required(),
  base: dn.required(),
  preset: Joi.valid(...DIRECTORY_PRESETS).required(),
  schema: schema.required(),
  branches: Joi.array().items(dn.disallow('')).max(50).unique().required(),
  awayDays: Joi.number().integer().min(0).max(30).required(),
});

/** What one step of getting through to a directory showed, in the order in which they are taken. */
export const DIRECTORY_STEPS = ['resolve', 'connect', 'certificate', 'bind', 'base', 'entries'] as const;
export type DirectoryStepName = (typeof DIRECTORY_STEPS)[number];
export interface DirectoryStep {
  step: DirectoryStepName;
  /** Null: it concerns what is in the directory, whichever server says it. */
  server: string | null;
  /** `skipped`: one before it failed. */
  outcome: 'ok' | 'failed' | 'skipped';
  words: string;
  /** What to do about it. */
  remedy: string | null;
}
export interface DirectoryTrial {
  works: boolean;
  steps: DirectoryStep[];
  /** What the server showed and nobody here trusts: it can be, when somebody has compared its fingerprint. */
  authority: { pem: string; subject: string; fingerprint: string } | null;
}

export interface DirectoryRunChange {
  words: string;
  kind: DirectoryChange['kind'];
}
export interface DirectoryRunKept {
  words: string;
  dn: string;
  entryId: string | null;
  couldBe: { kind: 'person' | 'group'; id: string; name: string } | null;
}
/**
 * A look at the directory, and what came of it. `waiting`: somebody says whether it is done; `dropped`: nobody wanted it,
 * or the directory said something else by then.
 */
export type DirectoryRunState = 'looking' | 'waiting' | 'doing' | 'done' | 'failed' | 'dropped';
export interface DirectoryRun {
  id: string;
  at: string;
  /** Null: the program itself. */
  by: string | null;
  state: DirectoryRunState;
  /** In a line: "3 new, 1 disabled"; of a failed one why. */
  words: string;
  /** More than a tenth would be disabled. */
  asks: boolean;
  done: number;
  total: number;
}
export interface DirectoryRunSheet extends DirectoryRun {
  /** The first of them. */
  changes: DirectoryRunChange[];
  kept: DirectoryRunKept[];
}
/** Lines of a run that are shown. */
export const RUN_LINES_SHOWN = 500;

export interface Directory {
  settings: DirectorySettings | null;
  hasPassword: boolean;
  people: number;
  groups: number;
  /** The last ones, the newest first. */
  runs: DirectoryRun[];
}

/** An entry that was found. */
export interface DirectoryFound {
  dn: string;
  /** Null of a branch. */
  entryId: string | null;
  kind: 'person' | 'group' | 'branch';
  name: string;
  /** A mail address, or how many are in it. */
  more: string;
  /** It is here already, or why it cannot be. */
  state: 'here' | 'free' | 'fault';
  words: string;
}
export interface DirectoryFind {
  /** Everything below, by a word; or what stands right below a branch. */
  words: string;
  under: string | null;
}
export const directoryFindSchema = Joi.object<DirectoryFind>({
  words: lineSchema.max(100).allow('').default(''),
  under: dn.allow(null).default(null),
});
export interface DirectoryFindAnswer {
  found: DirectoryFound[];
  /** There are more. */
  more: boolean;
}
export const FOUND_SHOWN = 100;

/** Looks at the directory, for what would change; with entries that are to be here from then on. */
export interface LookAtDirectory {
  chosen: string[];
  /** Entries that are somebody, or a group, of here. */
  taken: { entryId: string; id: string }[];
}
const entryId = Joi.string().max(300);
export const lookAtDirectorySchema = Joi.object<LookAtDirectory>({
  chosen: Joi.array().items(entryId).max(500).unique().default([]),
  taken: Joi.array()
    .items(Joi.object({ entryId: entryId.required(), id: idSchema.required() }))
    .max(500)
    .default([]),
});
