import { MOST_PICKED, PASSWORD_LENGTH, type Handing, type ShareLevel, type ShareState } from '@quay/core';
import Joi from 'joi';
import { idSchema, timeSchema } from './common.js';
import { createShareSchema, type CreateShare } from './shares.js';

/** What a visitor's page may know before the share is opened to it. */
export interface VisitorDoor {
  office: string;
  /** What the office has every visitor read; empty: nothing. */
  officeWords: string;
  /** The version of the office's logo, which is at `logo` beside this; null: there is none. */
  logo: string | null;
  zone: string;
  sender: string;
  title: string;
  message: string;
  state: ShareState;
  /** A rule of the office keeps it closed. */
  barred: boolean;
  opensAt: string | null;
  closesAt: string | null;
  needsPassword: boolean;
  /** Whoever opens it proves a mail address by a code that is sent there, or signs in. */
  needsCode: boolean;
  /** A telephone number can be proven, too. */
  takesNumbers: boolean;
  needsSignIn: boolean;
  /** Whom this visit was let in as: an address, or the name of somebody signed in. */
  you: string | null;
  /** True when the share counts visits, so that opening is left to a deliberate press. */
  countsVisits: boolean;
  visitsLeft: number | null;
  now: string;
  /** Present while this browser's visit lasts. */
  contents: VisitorContents | null;
}

export interface VisitorFile {
  id: string;
  /** Relative path with forward slashes. */
  path: string;
  sizeBytes: number;
  mediaType: string;
  /** Hexadecimal; empty of what is not given as it is. */
  sha256: string;
  /** How it is given: as it is, as a copy that is marked for this visit, or only to look at. */
  handing: Handing;
  /** As many visits have taken it as may. */
  isSpent: boolean;
  /** This visitor brought it, and may take it back. */
  own: boolean;
  /** This visitor may put another version on it. */
  mayReplace: boolean;
}

/** A folder into which files may be brought. */
export interface VisitorPlace {
  id: string;
  /** Relative path with forward slashes. */
  path: string;
}

/** A file that is on its way into the share. */
export interface ArrivingFile {
  name: string;
  sizeBytes: number;
  arrivedBytes: number;
}

export interface VisitorContents {
  level: ShareLevel;
  /** Whether what others brought is shown. */
  seesOthers: boolean;
  files: VisitorFile[];
  /** Where files may be brought; none where nothing may be. */
  places: VisitorPlace[];
  /** How many bytes are still taken in; null where nothing may be brought. */
  takesBytes: number | null;
  arriving: ArrivingFile[];
  totalBytes: number;
  /** Exact size of the archive of everything; null when there can be none. */
  archiveBytes: number | null;
  /** Why there is no archive; `more`: there are more files than are listed. */
  notAll: { code: string; words: string; more: boolean } | null;
  /** What stands on copies that are marked for this visit; null: they are not marked. */
  markedFor: string | null;
  /** Of what is given marked as one archive, how much is made; null: nothing is. */
  copies: CopiesMade | null;
}

/** Files of a share that are taken together; left out: all. */
export interface Picked {
  ids?: string[];
}
export const pickedSchema = Joi.object<Picked>({
  ids: Joi.array()
    .items(idSchema)
    .single()
    .min(1)
    .max(MOST_PICKED)
    .unique()
    .messages({ 'array.max': `At most ${MOST_PICKED} files are picked at once; all can be taken together.` }),
}).default({});

/** How many copies are marked for a visit, of how many that are wanted. */
export interface CopiesMade {
  made: number;
  of: number;
}

/** Where an address is to be proven: it, the code that was sent there, and the ticket of whoever asked for it. */
export interface ProofAsked {
  address?: string;
  code?: string;
  ticket?: string;
}
const address = Joi.string().trim().max(320);
export const proofFields = {
  address,
  // As people type it: with spaces.
  code: Joi.string()
    .replace(/\s/g, '')
    .pattern(/^\d{6}$/)
    .messages({ 'string.pattern.base': 'A code has six digits.' }),
  ticket: Joi.string().max(64),
};
export interface OpenShare extends ProofAsked {
  password: string | null;
}
export const openShareSchema = Joi.object<OpenShare>({
  password: Joi.string().max(PASSWORD_LENGTH.max).allow(null, '').default(null),
  ...proofFields,
}).with('code', ['address', 'ticket']);

/** At which moment a page is looked at, and as whom: whoever proves an address, or signs in; left out: neither. */
export interface SeePage {
  /** Null: now. */
  at: string | null;
  address?: string;
  personId?: string;
}
const seen = { at: timeSchema.allow(null).default(null), address, personId: idSchema };
export const seePageSchema = Joi.object<SeePage>(seen);

export interface SeeDraft extends SeePage {
  share: CreateShare;
}
export const seeDraftSchema = Joi.object<SeeDraft>({ ...seen, share: createShareSchema.required() });

/** The page of a share as somebody else would get it. */
export interface SeenPage {
  /** Before it is opened. */
  door: VisitorDoor;
  /** Once it is; null: they are not let in. */
  inside: VisitorDoor | null;
  /** Why they are not, for whoever publishes it, and what they are told; null: they are, or it is not open. */
  kept: { code: string; words: string; told: string } | null;
  /** Files that whoever looks does not see themselves, and that are left out. */
  hidden: number;
}

/** The language a page is looked at in, as a tag (BCP 47); left out: the browser's. */
export interface PageLanguage {
  language?: string;
}
export const pageLanguageSchema = Joi.object<PageLanguage>({ language: Joi.string().max(35) });

/** Asks for a code. The answer is the same whether or not one is sent. */
export interface AskCode {
  address: string;
  password: string | null;
}
export const askCodeSchema = Joi.object<AskCode>({
  address: address.required(),
  password: Joi.string().max(PASSWORD_LENGTH.max).allow(null, '').default(null),
});
export interface CodeAsked {
  /** In the form in which addresses are compared. */
  address: string;
  /** Goes back with the code: it is of use only to whoever asked for it. */
  ticket: string;
  /** How long it can be used. */
  minutes: number;
}
