import { isZone, SIGN_IN_NAME, type LeftKind, type PlaceVerdict } from '@quay/core';
import Joi from 'joi';
import { lineSchema, nameSchema } from './common.js';
import { SIGN_IN_PASSWORD_MIN } from './session.js';

/** The steps of the first start, in their order. */
export const SETUP_STEPS = ['office', 'you', 'place', 'stores', 'mail', 'wayIn'] as const;
export type SetupStep = (typeof SETUP_STEPS)[number];

/** The code that the terminal printed: letters and digits that are not taken for each other, in any spelling. */
export const SETUP_CODE = /^[0-9A-HJKMNP-TV-Z]{8}$/;
export interface SetupCode {
  code: string;
}
export const setupCodeSchema = Joi.object<SetupCode>({
  code: Joi.string()
    .max(40)
    .required()
    .custom((value: string, helpers) => {
      // Crockford's base 32: O is read as 0, I and L as 1.
      const plain = value.toUpperCase().replace(/[\s-]/g, '').replace(/O/g, '0').replace(/[IL]/g, '1');
      return SETUP_CODE.test(plain) ? plain : helpers.error('code.shape');
    })
    .messages({ 'code.shape': 'The code has eight letters and digits, as in K7QM-2XWP.' }),
});

export interface SetupOffice {
  name: string;
  /** IANA time zone. */
  zone: string;
}
export const officeFields = {
  name: lineSchema.min(1).max(80).required(),
  zone: Joi.string()
    .max(60)
    .required()
    .custom((value: string, helpers) => (isZone(value) ? value : helpers.error('zone.unknown')))
    .messages({ 'zone.unknown': 'There is no such time zone. It is written as in Europe/London.' }),
};
export const setupOfficeSchema = Joi.object<SetupOffice>(officeFields);

export interface SetupYou {
  name: string;
  signInName: string;
  email: string;
  password: string;
}
export const emailSchema = Joi.string()
  .trim()
  .max(254)
  .email({ tlds: false, minDomainSegments: 1 })
  .messages({ 'string.email': 'That is no mail address.' });
export const signInNameSchema = Joi.string()
  .trim()
  .lowercase()
  .pattern(SIGN_IN_NAME)
  .messages({ 'string.pattern.base': 'Use 2 to 40 letters, digits, dots or hyphens, as in mary.ann.' });
export const setupYouSchema = Joi.object<SetupYou>({
  name: lineSchema.min(1).max(80).required(),
  signInName: signInNameSchema.required(),
  email: emailSchema.required(),
  password: Joi.string()
    .min(SIGN_IN_PASSWORD_MIN)
    .max(200)
    .required()
    .messages({ 'string.min': `A password has at least ${SIGN_IN_PASSWORD_MIN} characters.` }),
});

export interface SetupPlace {
  folder: string;
  /** Although it was warned of. */
  anyway?: boolean;
}
/** A folder of the server, by its whole path. */
export const serverFolderSchema = Joi.string()
  .trim()
  .max(1000)
  .pattern(/^\/[^\0]*$/)
  .custom((path: string, helpers) => {
    const names = path.split('/').filter(Boolean);
    return names.some((name) => /^\.{1,2}$/.test(name)) ? helpers.error('path.detour') : `/${names.join('/')}`;
  })
  .messages({
    'string.pattern.base': 'Write the whole path, as in /srv/quay.',
    'path.detour': 'Write the path without detours by . or .. in it.',
  });
export const setupPlaceSchema = Joi.object<SetupPlace>({
  folder: serverFolderSchema.required(),
  anyway: Joi.boolean().default(false),
});

export interface SetupStores {
  names: string[];
  /** Everybody gets a place of their own. */
  homes: boolean;
}
export const setupStoresSchema = Joi.object<SetupStores>({
  names: Joi.array()
    .items(nameSchema.max(80))
    .min(1)
    .max(12)
    .unique((a: string, b: string) => a.toLowerCase() === b.toLowerCase())
    .required()
    .messages({
      'array.min': 'Begin with one store at least.',
      'array.unique': 'Two stores have the same name.',
    }),
  homes: Joi.boolean().required(),
});

/** How mail is encrypted on its way to the mail server: not at all, by STARTTLS (RFC 3207), or from the first byte. */
export const MAIL_ENCRYPTIONS = ['none', 'starttls', 'tls'] as const;
export type MailEncryption = (typeof MAIL_ENCRYPTIONS)[number];
export interface MailServer {
  host: string;
  port: number;
  encryption: MailEncryption;
  /** '': without signing in. */
  user: string;
  /** Left out: as it is kept. */
  password?: string;
  /** Whom mail is from. */
  sender: string;
}
export type SetupMail = { later: true } | ({ later?: false } & MailServer);
const mailFields = {
  host: Joi.string()
    .trim()
    .lowercase()
    .max(253)
    .pattern(/^[a-z0-9:._-]+$/)
    .required()
    .messages({ 'string.pattern.base': 'That is no name or address of a machine.' }),
  port: Joi.number().port().min(1).required(),
  encryption: Joi.string()
    .valid(...MAIL_ENCRYPTIONS)
    .required(),
  user: Joi.string().trim().max(200).allow('').default(''),
  password: Joi.string().max(200).allow(''),
  sender: emailSchema.required(),
};
export const mailServerSchema = Joi.object<MailServer>(mailFields);
const unlessLater = (field: Joi.Schema): Joi.Schema =>
  Joi.when('later', { is: true, then: Joi.forbidden(), otherwise: field });
export const setupMailSchema = Joi.object<SetupMail>({
  later: Joi.boolean(),
  ...Object.fromEntries(Object.entries(mailFields).map(([name, field]) => [name, unlessLater(field)])),
});

/** Where a test message goes. */
export type MailTrial = MailServer & { to: string };
export const mailTrialSchema = Joi.object<MailTrial>({ ...mailFields, to: emailSchema.required() });

/** What was said between the two servers, line by line. */
export interface MailTrialAnswer {
  sent: boolean;
  words: string;
  lines: { from: 'us' | 'server' | 'note'; text: string }[];
}

/** How outsiders get in: by an own name or a relay, which Reach's guide then sets up; or not for now. */
export const SETUP_WAYS = ['name', 'relay', 'inside'] as const;
export interface SetupWayIn {
  kind: (typeof SETUP_WAYS)[number];
  /** How people in the office write the server in their browsers: links are built on it until there is a better one. */
  inside: string;
}
export const setupWayInSchema = Joi.object<SetupWayIn>({
  kind: Joi.string()
    .valid(...SETUP_WAYS)
    .required(),
  inside: Joi.string()
    .trim()
    .max(300)
    .pattern(/^https?:\/\/(\[[0-9a-f:.]+\]|[a-z0-9.-]+)(:\d{1,5})?\/?$/i)
    .required()
    .messages({ 'string.pattern.base': 'Write it as in http://192.168.1.10:4180.' }),
});

/** A folder in which bytes could lie. */
export interface SetupCandidate extends PlaceVerdict {
  folder: string;
  freeBytes: number;
}

/** What has been answered so far; secrets are never given back. */
export interface SetupState {
  /** The machine's own name. */
  machine: string;
  /** How the folder is called that is proposed. */
  proposedPlace: string;
  answers: {
    office?: SetupOffice;
    you?: Omit<SetupYou, 'password'>;
    place?: SetupPlace & { words: string; mark: PlaceVerdict['mark'] };
    stores?: SetupStores;
    mail?: { later: true } | (Omit<MailServer, 'password'> & { later?: false });
    wayIn?: SetupWayIn;
  };
  /** The server's time. */
  now: string;
}

/** Where a browser stands that asks for the first start. */
export type SetupStanding = { held: false; machine: string } | { held: true; state: SetupState };

/** What is left to do after it. */
export interface LeftToDo {
  left: LeftKind[];
}

/** What comes after it. */
export interface SetupDone {
  /** The server begins anew, with what was chosen, within seconds. */
  restarts: boolean;
}
