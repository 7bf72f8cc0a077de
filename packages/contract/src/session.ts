import type { Duty, ReachMark, Role } from '@quay/core';
import Joi from 'joi';

export interface SignIn {
  signInName: string;
  password: string;
}
export const signInSchema = Joi.object<SignIn>({
  signInName: Joi.string().trim().lowercase().max(100).required(),
  password: Joi.string().max(200).required(),
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
}

export interface SetPassword {
  password: string;
}
export const setPasswordSchema = Joi.object<SetPassword>({
  password: Joi.string()
    .min(SIGN_IN_PASSWORD_MIN)
    .max(200)
    .required()
    .messages({ 'string.min': `A password has at least ${SIGN_IN_PASSWORD_MIN} characters.` }),
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
  /** The server's time, so that the browser shows the same "now". */
  now: string;
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
