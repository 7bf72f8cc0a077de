import { NOTICES, type Duty, type NoticeKind, type ReachMark, type Role } from '@quay/core';
import Joi from 'joi';
import { lineSchema } from './common.js';

export interface SignIn {
  signInName: string;
  password: string;
  /** Of the authenticator or for recovery, from whoever has a second factor. */
  code?: string;
  /** With a code of the authenticator: this browser is asked for none for thirty days. */
  remember?: boolean;
}

/** What is typed as a code of a second factor; what it is, core says (`readFactorCode`). */
const factorCode = Joi.string().trim().max(40);
export const signInSchema = Joi.object<SignIn>({
  // The name, or the mail address.
  signInName: Joi.string().trim().lowercase().max(254).required(),
  password: Joi.string().max(200).required(),
  code: factorCode,
  remember: Joi.boolean(),
});

export interface ChangePassword {
  current: string;
  next: string;
}
/** Sign-in passwords: at least 10 characters (NIST SP 800-63B asks for 8 or more), at most 200. */
export const SIGN_IN_PASSWORD_MIN = 10;
export const changePasswordSchema = Joi.object<ChangePassword>({
  current: Joi.string().max(200).required(),
  next: Joi.string()
    .min(SIGN_IN_PASSWORD_MIN)
    .max(200)
    .required()
    .messages({ 'string.min': `A new password has at least ${SIGN_IN_PASSWORD_MIN} characters.` }),
});

/** A link by which somebody sets a password of their own. */
export interface PasswordLink {
  name: string;
  signInName: string;
  office: string;
  /** They begin with their account by it, and may say what they are called. */
  begins: boolean;
}

export interface SetPassword {
  password: string;
  /** Of whoever begins with their account. */
  name?: string;
}
export const setPasswordSchema = Joi.object<SetPassword>({
  password: Joi.string()
    .min(SIGN_IN_PASSWORD_MIN)
    .max(200)
    .required()
    .messages({ 'string.min': `A password has at least ${SIGN_IN_PASSWORD_MIN} characters.` }),
  name: lineSchema.min(1).max(80),
});

/** The own second factor. */
export interface SecondFactor {
  on: boolean;
  since: string | null;
  /** Codes for recovery that have not been used. */
  recoveryLeft: number;
  /** Browsers in which no code is asked for. */
  browsers: number;
  /** The office wants one of this person. */
  wanted: boolean;
  /** From when on they come no further without one; null: none is wanted. */
  dueAt: string | null;
}

export interface BeginFactor {
  /** The present password. */
  password: string;
}
export const beginFactorSchema = Joi.object<BeginFactor>({ password: Joi.string().max(200).required() });

/** What an authenticator is told; it counts once a code of it was typed. */
export interface FactorBegun {
  /** Base32 (RFC 4648 §6). */
  secret: string;
  /** The same with office and name, as a QR code carries it. */
  uri: string;
}

export interface FactorCode {
  code: string;
}
export const factorCodeSchema = Joi.object<FactorCode>({ code: factorCode.required() });

/** Each opens once, in place of a code; shown this once. */
export interface RecoveryCodes {
  codes: string[];
}

/** What somebody is told of by mail. */
export interface OwnNotices {
  notices: NoticeKind[];
  /** What came of shares is told once a day, in one mail. Left out: as it is. */
  daily?: boolean;
}
export const ownNoticesSchema = Joi.object<OwnNotices>({
  notices: Joi.array()
    .items(Joi.valid(...NOTICES))
    .unique()
    .required(),
  daily: Joi.boolean(),
});

/** The signed-in person, with what every screen needs to know of the office. */
export interface Me {
  id: string;
  name: string;
  initials: string;
  email: string;
  role: Role;
  duties: Duty[];
  office: { name: string; zone: string };
  /** The addresses that links can be built on, the default first: why each cannot work outside (null: it can), and how it was last found from outside. */
  addresses: { id: string; text: string; portability: string | null; reach: ReachMark }[];
  /** The office wants a second factor of them that they do not have: until then nothing else is open. */
  lacksFactor: boolean;
  /** Until when they have time to set one up; null: none is wanted, or they have one, or that is over. */
  factorDueAt: string | null;
  /** Their password was made by somebody else: whoever came in by it chooses their own before anything else. */
  givenPassword: boolean;
  /** They have a password here; else the directory knows it, and it is changed there. */
  passwordHere: boolean;
  /** They may put people into a group and take them out. */
  managesGroups: boolean;
  /** The server's time, so that the browser shows the same "now". */
  now: string;
}

/** `byProvider`: they are signed in at the identity provider still, and sign out there by `/api/sign-in/provider/out`. */
export interface SignedOut {
  byProvider: boolean;
}

/** Somewhere where somebody is signed in. */
export interface SessionRow {
  id: string;
  /** What the browser says of itself, in words. */
  browser: string;
  from: string;
  since: string;
  lastSeen: string;
  /** Whether it is the one that asks. */
  here: boolean;
}
