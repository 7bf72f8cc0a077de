import {
  ANSWER_LENGTH,
  ASKED,
  coloursFault,
  CONTENT_KINDS,
  FOLDER_PATTERN_LENGTH,
  folderPatternFault,
  INTAKE_RANGES,
  limitsFault,
  MOST_ORIGINS,
  MOST_QUESTIONS,
  originOf,
  PASSWORD_LENGTH,
  QUESTION_LENGTH,
  REMIND_DAYS,
  straightFault,
  type AudienceKind,
  type BarStep,
  type ContentVerdict,
  type DepositState,
  type Embed,
  type EmbedColours,
  type IntakeAnswers,
  type IntakeLimits,
  type IntakeQuestions,
  type IntakeState,
  type RailFault,
  type Scan,
  type SentencePart,
  type StraightIn,
} from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema, timeSchema } from './common.js';
import { audienceSchema, type AudienceAsked, type ShareAudience, type WindowText } from './shares.js';
import { modifiedAtSchema } from './stores.js';
import { proofFields, type ProofAsked } from './visitor.js';

/** What is asked for, of whom, and where it goes. */
export interface CreateIntake {
  title: string;
  message: string;
  /** Who may hand something in; left out: anyone. */
  audience?: AudienceAsked;
  /** So many days before it closes, those who have handed nothing in are reminded; null: nobody is. */
  remindDays?: number | null;
  /** What is accepted goes there. */
  folderId: string;
  addressId?: string;
  window: WindowText;
  password: string | null;
  weakPasswordMeant: boolean;
  /** Deposits wait until somebody accepts them. */
  waits: boolean;
  /** How the folder of a contributor is called; null: there is none. */
  /** What goes straight in where nothing has to wait; left out, or null: everything that is what its name says. */
  straight?: StraightIn | null;
  folderPattern: string | null;
  limits: IntakeLimits;
  questions: IntakeQuestions;
  /** Whoever leaves a mail address gets the receipt there. */
  receiptByMail: boolean;
}

export interface ChangeIntake extends Partial<Omit<CreateIntake, 'folderId'>> {
  /** Null: it is shown in no other page. */
  embed?: Embed | null;
  withdrawn?: boolean;
}

const bytes = (range: { min: number; max: number }) => Joi.number().integer().min(range.min).max(range.max).required();
const limitsSchema = Joi.object<IntakeLimits>({
  fileBytes: bytes(INTAKE_RANGES.fileBytes),
  files: bytes(INTAKE_RANGES.files),
  contributorBytes: bytes(INTAKE_RANGES.contributorBytes),
  allBytes: bytes(INTAKE_RANGES.allBytes),
  kinds: Joi.array()
    .items(Joi.string().valid(...CONTENT_KINDS))
    .unique()
    .allow(null)
    .required(),
})
  .custom((limits: IntakeLimits, helpers) =>
    limitsFault(limits) ? helpers.error('intake.limits', { words: limitsFault(limits)?.words }) : limits,
  )
  .messages({ 'intake.limits': '{{#words}}' });
const asked = Joi.string()
  .valid(...ASKED)
  .required();
const questionsSchema = Joi.object<IntakeQuestions>({
  ...{ name: asked, mail: asked, firm: asked },
  own: Joi.array()
    .items(
      Joi.object({
        id: idSchema.required(),
        words: lineSchema.min(1).max(QUESTION_LENGTH).required(),
        must: Joi.boolean().required(),
      }),
    )
    .max(MOST_QUESTIONS)
    .unique('id')
    .required(),
});
const folderPatternSchema = lineSchema
  .max(FOLDER_PATTERN_LENGTH)
  .allow(null)
  .custom((pattern: string | null, helpers) => {
    const words = pattern === null ? null : folderPatternFault(pattern);
    return words === null ? pattern : helpers.error('intake.pattern', { words });
  })
  .messages({ 'intake.pattern': '{{#words}}' });

const straightSchema = Joi.object<StraightIn>({
  kinds: Joi.array()
    .items(Joi.string().valid(...CONTENT_KINDS))
    .unique()
    .allow(null)
    .required(),
  fileBytes: Joi.number()
    .integer()
    .min(INTAKE_RANGES.fileBytes.min)
    .max(INTAKE_RANGES.fileBytes.max)
    .allow(null)
    .required(),
  provenOnly: Joi.boolean().required(),
})
  .custom((rule: StraightIn, helpers) =>
    straightFault(rule) ? helpers.error('intake.straight', { words: straightFault(rule) }) : rule,
  )
  .messages({ 'intake.straight': '{{#words}}' })
  .allow(null);

const fields = {
  title: lineSchema.min(1).max(120),
  message: Joi.string().trim().allow('').max(2000),
  window: Joi.object<WindowText>({
    opensAt: timeSchema.allow(null).required(),
    closesAt: timeSchema.allow(null).required(),
  }),
  password: Joi.string().min(PASSWORD_LENGTH.min).max(PASSWORD_LENGTH.max).allow(null),
  weakPasswordMeant: Joi.boolean(),
  waits: Joi.boolean(),
  straight: straightSchema,
  folderPattern: folderPatternSchema,
  limits: limitsSchema,
  questions: questionsSchema,
  receiptByMail: Joi.boolean(),
  audience: audienceSchema,
  addressId: idSchema,
  remindDays: Joi.number().integer().min(REMIND_DAYS.min).max(REMIND_DAYS.max).allow(null),
};

export const createIntakeSchema = Joi.object<CreateIntake>({
  ...fields,
  title: fields.title.required(),
  message: fields.message.default(''),
  folderId: idSchema.required(),
  window: fields.window.required(),
  password: fields.password.default(null),
  weakPasswordMeant: Joi.boolean().default(false),
  waits: Joi.boolean().default(true),
  folderPattern: folderPatternSchema.required(),
  limits: limitsSchema.required(),
  questions: questionsSchema.required(),
  receiptByMail: Joi.boolean().default(true),
}).required();
const embedSchema = Joi.object<Embed>({
  origins: Joi.array()
    .items(
      Joi.string()
        .max(500)
        .custom((text: string, helpers) => originOf(text) ?? helpers.error('embed.origin'))
        .messages({ 'embed.origin': 'That is no address of a page (as https://www.saltmarsh.example).' }),
    )
    .min(1)
    .max(MOST_ORIGINS)
    .unique()
    .required(),
  colours: Joi.object<EmbedColours>({
    ink: Joi.string().required(),
    paper: Joi.string().required(),
    accent: Joi.string().required(),
  })
    .custom((colours: EmbedColours, helpers) => {
      const words = coloursFault(colours);
      return words === null ? colours : helpers.error('embed.colours', { words });
    })
    .messages({ 'embed.colours': '{{#words}}' })
    .allow(null)
    .required(),
}).allow(null);

export const changeIntakeSchema = Joi.object<ChangeIntake>({
  ...fields,
  withdrawn: Joi.boolean(),
  embed: embedSchema,
})
  .min(1)
  .required();

/** An intake in a list. Closed to whoever sees it, it says whose it is and how it stands, and no more. */
export interface IntakeRow {
  id: string;
  closed: boolean;
  title: string;
  state: IntakeState;
  opensAt: string | null;
  closesAt: string | null;
  withdrawnAt: string | null;
  createdAt: string;
  createdBy: string;
  hasPassword: boolean;
  /** Where what is accepted goes; null: it is closed to whoever asks. */
  folder: { id: string; name: string } | null;
  waits: boolean;
  audience: AudienceKind;
  /** Of those who were asked by name, how many have handed something in; null: nobody was. */
  people: { handedIn: number; of: number } | null;
  /** Deposits that were handed in, and what they hold. */
  deposits: number;
  files: number;
  bytes: number;
  /** Of them, those that nothing has been decided about. */
  waiting: number;
  lastAt: string | null;
}

export interface IntakeList {
  /** The last made first; at most {@link MOST_INTAKES}. */
  intakes: IntakeRow[];
  /** Of all. */
  total: number;
  /** Deposits that wait for whoever asks, in all of them. */
  waiting: number;
}
export const MOST_INTAKES = 500;

export interface DepositFileRow {
  id: string;
  path: string;
  sizeBytes: number;
  /** In hexadecimal. */
  sha256: string;
  /** Null: not looked at yet. */
  verdict: ContentVerdict | null;
  /** What the verdict says. */
  words: string;
  /** What the scanner says; null: it has not looked, or none is named. */
  scan: Scan | null;
  finding: string;
  decided: 'accepted' | 'refused' | null;
  /** What it became, and where that lies, as far as whoever asks sees it. */
  node: { id: string; folderId: string } | null;
}

/** What somebody handed in. */
export interface DepositRow {
  id: string;
  number: string;
  at: string;
  state: DepositState;
  who: string;
  /** The address that was proven, or who was signed in; null: the intake is for anyone. */
  provenAs: string | null;
  from: string;
  /** What was asked and what they said, in the order in which it was asked. */
  answers: { asked: string; said: string }[];
  /** The same contributor had handed something in before. */
  again: boolean;
  fileCount: number;
  bytes: number;
  /** Of its files the first, by path; all in {@link Deposit}. */
  files: DepositFileRow[];
  /** Why it was refused. */
  reason: string;
  decidedAt: string | null;
  decidedBy: string | null;
  receiptLink: string;
  askedBack: AskedBack[];
  /** The deposit that it answers, by number. */
  follows: string | null;
  /** Those that answer it. */
  followedBy: string[];
}
/** What a contributor was asked about what they handed in. */
export interface AskedBack {
  words: string;
  at: string;
  by: string;
}
export interface AskBack {
  words: string;
}
export const askBackSchema = Joi.object<AskBack>({
  words: Joi.string().trim().min(1).max(1000).required(),
}).required();
/** Files of a deposit that a sheet shows. */
export const FILES_SHOWN = 12;
/** Deposits of an intake that its sheet shows. */
export const DEPOSITS_SHOWN = 100;

export interface IntakeSheet extends IntakeRow {
  message: string;
  link: string;
  sentence: SentencePart[];
  limits: IntakeLimits;
  questions: IntakeQuestions;
  straight: StraightIn | null;
  who: ShareAudience;
  addressId: string;
  /** Guardrails that it does not keep to: it takes nothing in until it does. */
  railFaults: RailFault[];
  /** Its folder is not there, or whoever made it may put nothing into it any more. */
  isLost: boolean;
  embed: Embed | null;
  remindDays: number | null;
  /** Those who were asked by name: first who has handed nothing in; at most {@link EXPECTED_SHOWN}. */
  expected: Expected[];
  folderPattern: string | null;
  /** What the folder of a contributor would be called now; null: there is none. */
  folderExample: string | null;
  receiptByMail: boolean;
  /** What is handed in is scanned before anybody accepts it. */
  isScanned: boolean;
  /** Deposits over time, and how many of them were accepted, whole or in part; null: there are none. */
  overTime: OverTime | null;
  /** Those that wait, then the last. */
  handedIn: DepositRow[];
}

export interface OverTime {
  step: BarStep;
  /** Bar n lies between edges n and n + 1; bars of nothing are left out. */
  edges: string[];
  bars: { bar: number; all: number; full: number }[];
}

/** Somebody who was asked by name. */
export interface Expected {
  /** An address or a number as it was listed, or a name. */
  who: string;
  handedInAt: string | null;
  remindedAt: string | null;
  /** They can be written to by mail. */
  byMail: boolean;
}
export const EXPECTED_SHOWN = 500;

/** What came of reminding those who have handed nothing in. */
export interface Reminded {
  written: number;
  /** Those who were written to a short while ago. */
  lately: number;
  /** Those who have no mail address here. */
  without: number;
}

/** Which files of a deposit; left out: all that nothing was decided about. */
export interface DecideFiles {
  fileIds?: string[];
}
export interface RefuseFiles extends DecideFiles {
  /** Told to the contributor, if they left an address. */
  reason: string;
}
const fileIds = Joi.array().items(idSchema).min(1).max(10_000).unique();
export const acceptSchema = Joi.object<DecideFiles>({ fileIds }).required();
export const refuseSchema = Joi.object<RefuseFiles>({
  fileIds,
  reason: Joi.string().trim().min(1).max(1000).required(),
}).required();

/** What became of files that were to be accepted. */
export interface Accepted {
  deposit: DepositRow;
  accepted: number;
  /** Those that could not be, with why; nothing is decided about them. */
  left: { path: string; words: string }[];
}

/** What an intake's page may show. */
export interface IntakeDoor {
  title: string;
  message: string;
  office: string;
  /** Whoever asks for files. */
  asker: string;
  logo: string | null;
  /** By the server's clock. */
  now: string;
  state: IntakeState;
  opensAt: string | null;
  closesAt: string | null;
  needsPassword: boolean;
  /** What is wanted of this browser first; `not-meant`: somebody is signed in whom it is not for. */
  wants: 'nothing' | 'code' | 'sign-in' | 'not-meant';
  /** Codes are sent to telephones as well. */
  takesNumbers: boolean;
  embed: Embed | null;
  /** Null: the password is to be typed first, or it is not open. */
  inside: IntakeInside | null;
}

export interface IntakeInside {
  limits: IntakeLimits;
  questions: IntakeQuestions;
  /** What is being handed in; null: nothing is yet. */
  files: HandedFile[];
  /** Until when what was begun may be finished, where the window has closed meanwhile. */
  finishBy: string | null;
  /** The receipt that what is being handed in answers; null: none. */
  follows: string | null;
  /** What this browser handed in before, the last first. */
  receipts: HandedIn[];
}

export interface HandedFile {
  id: string;
  path: string;
  sizeBytes: number;
  arrivedBytes: number;
  /** All of it is here. */
  here: boolean;
}

export interface HandedIn {
  number: string;
  at: string;
  files: number;
  bytes: number;
  state: DepositState;
  /** The path of its receipt, below the link of the intake. */
  path: string;
  askedBack: AskedBack[];
}

export interface BeginDeposit extends ProofAsked {
  password: string | null;
  /** The secret of the receipt that is answered. */
  follows?: string;
  /** The page keeps what it is known by: it is shown within another, where browsers keep no cookie. */
  byPage?: boolean;
}
export const beginDepositSchema = Joi.object<BeginDeposit>({
  password: Joi.string().max(PASSWORD_LENGTH.max).allow(null).required(),
  follows: Joi.string().max(200),
  byPage: Joi.boolean(),
  ...proofFields,
})
  .with('code', ['address', 'ticket'])
  .required();

/** @property key what the page is known by from now on, where it asked for that; sent in the header {@link DEPOSIT_HEADER} */
export interface BegunDeposit extends IntakeDoor {
  key?: string;
}
export const DEPOSIT_HEADER = 'quay-deposit';

const answer = lineSchema.allow('').max(ANSWER_LENGTH);
export const handInSchema = Joi.object<IntakeAnswers>({
  ...{ name: answer.required(), mail: answer.required(), firm: answer.required() },
  own: Joi.object().pattern(idSchema, answer).max(MOST_QUESTIONS).required(),
}).required();

/** What a browser says of a file that it hands in (tus metadata). */
export interface HandedMetadata {
  name: string;
  /** The folders that it came in, parted by "/". */
  path?: string;
  modifiedAt?: number;
}
export const handedMetadataSchema = Joi.object<HandedMetadata>({
  // Judged by the rule for what is handed in.
  name: Joi.string().max(2000).required(),
  path: Joi.string().max(4000).allow(''),
  modifiedAt: modifiedAtSchema,
});
