import {
  HAND_OVER_CHANNELS,
  HANDED_OVER,
  MAIL_ABOUT,
  MESSAGE_LENGTH,
  MOST_MESSAGES_AT_ONCE,
  PASSWORD_LENGTH,
  type AttachAdvice,
  type HandedOver,
  type HandOverChannel,
  type MailAbout,
  type MessageTemplate,
  type MessageValues,
} from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema } from './common.js';

/** One time that link, password or files went to somebody. */
export interface HandOverRow {
  id: string;
  at: string;
  by: string;
  what: HandedOver;
  channel: HandOverChannel;
  /** A mail address, a number or a name; empty: nobody in particular. */
  recipient: string;
  /** What they are called; empty: not known. */
  name: string;
  /** Of what the office sends, how far it came: `returned` was taken, and came back. Of all else `done`. */
  state: 'waiting' | 'sent' | 'refused' | 'given-up' | 'returned' | 'done';
  /** What the mail server or the gateway said last. */
  answer: string;
  /** When they first came by it, where they prove who they are; null: not yet, or nobody knows. */
  openedAt: string | null;
  /** The connection broke before the answer: they may have got it twice. */
  perhapsTwice: boolean;
  /** What is not true any more of what they got. */
  outdated: string[];
  /** Link and password went the same way, knowingly. */
  sameWay: boolean;
  /** Somebody said that nothing more is to be done about it. */
  settled: boolean;
}

/** A message that somebody, or the office, keeps to begin with. */
export interface MessageTemplateRow extends MessageTemplate {
  id: string;
  name: string;
  office: boolean;
  /** What a message begins with: one's own before the office's. */
  begins: boolean;
}
export type KeepMessageTemplate = Omit<MessageTemplateRow, 'id'>;
const messageKeys = {
  // What keeps it from being sent is said by the rule for messages.
  subject: Joi.string().max(MESSAGE_LENGTH.subject).allow('').required(),
  text: Joi.string().max(MESSAGE_LENGTH.text).allow('').required(),
};
export const keepMessageTemplateSchema = Joi.object<KeepMessageTemplate>({
  ...messageKeys,
  name: lineSchema.min(1).max(60).required(),
  office: Joi.boolean().required(),
  begins: Joi.boolean().default(false),
});
/** Of one person, and of the office. */
export const MOST_MESSAGE_TEMPLATES = 50;

/** Everything to hand a share over by. */
export interface HandOvers {
  /** Whether there is a mail server, and a gateway for text messages. */
  canMail: boolean;
  canText: boolean;
  /** What a message begins with, and what its placeholders stand for here. */
  template: MessageTemplate;
  values: MessageValues;
  /** Whose mail it is, below the HTML of every message. */
  office: string;
  /** Whether it could be attached instead; `barred`: what an attachment would go without. */
  attach: AttachAdvice & { barred: string | null };
  rows: HandOverRow[];
  /** There are more than are shown. */
  more: boolean;
}

export interface HandOverByMail extends MessageTemplate {
  /** The same for the same press, however often it arrives. */
  sendingId: string;
  /** Addresses, also with names before them. */
  to: string[];
  /** Whoever sends gets one, too. */
  copyToMe: boolean;
  about: MailAbout;
  /** Also where link and password went the same way. */
  sameWayMeant: boolean;
}
const to = Joi.array().items(Joi.string().trim().max(500)).min(1).max(MOST_MESSAGES_AT_ONCE).required();
export const handOverByMailSchema = Joi.object<HandOverByMail>({
  ...messageKeys,
  sendingId: idSchema.required(),
  to,
  copyToMe: Joi.boolean().default(false),
  about: Joi.valid(...MAIL_ABOUT).default('link'),
  sameWayMeant: Joi.boolean().default(false),
});

/** Link or password as a text message. */
export interface HandOverByText {
  sendingId: string;
  to: string[];
  what: 'link' | 'password';
  /** Of `password`: it must be the one that the share has. */
  password?: string;
  sameWayMeant: boolean;
}
export const handOverByTextSchema = Joi.object<HandOverByText>({
  sendingId: idSchema.required(),
  to,
  what: Joi.valid('link', 'password').required(),
  password: Joi.string()
    .max(PASSWORD_LENGTH.max)
    .when('what', {
      ...{ is: 'password', then: Joi.required(), otherwise: Joi.forbidden() },
    }),
  sameWayMeant: Joi.boolean().default(false),
});

/** What somebody did by themselves. */
export interface NoteHandOver {
  what: HandedOver;
  channel: HandOverChannel;
  /** Addresses, numbers or names; none: nobody in particular. */
  to: string[];
  sameWayMeant: boolean;
}
export const noteHandOverSchema = Joi.object<NoteHandOver>({
  what: Joi.valid(...HANDED_OVER.filter((what) => what !== 'withdrawal')).required(),
  // Mail that the office sends writes itself down.
  channel: Joi.valid(...HAND_OVER_CHANNELS.filter((channel) => channel !== 'mail')).required(),
  to: Joi.array().items(lineSchema.min(1).max(320)).max(MOST_MESSAGES_AT_ONCE).default([]),
  sameWayMeant: Joi.boolean().default(false),
});

export interface SettleHandOver {
  settled: boolean;
}
export const settleHandOverSchema = Joi.object<SettleHandOver>({ settled: Joi.boolean().required() });

/** What of hand-overs needs a hand. */
export interface HandOverFinding {
  kind: 'not-arrived' | 'same-way';
  handOverId: string;
  shareId: string;
  title: string;
  recipient: string;
  at: string;
  /** Of what did not arrive, what the mail server or the gateway said. */
  words: string;
}

/** Somebody whom one wrote to before, or who has an account. */
export interface KnownAddressee {
  value: string;
  name: string;
  /** When last; null: never yet. */
  lastAt: string | null;
}
export interface ForgetRecipient {
  recipient: string;
}
export const forgetRecipientSchema = Joi.object<ForgetRecipient>({
  recipient: Joi.string().trim().min(1).max(320).required(),
});

/** Where reports of mail that came back are read. */
export interface MailReturns {
  host: string;
  port: number;
  encryption: 'tls' | 'starttls' | 'none';
  user: string;
  folder: string;
}
export interface MailReturnsSettings {
  mailbox: MailReturns | null;
  /** When it was looked into last; null: not yet. */
  lookedAt: string | null;
  /** What went wrong then. */
  fault: string | null;
}
/** `password` left out: the one that is kept, while the mailbox is at the same place. */
export interface MailReturnsAsked extends MailReturns {
  password?: string;
}
export const mailReturnsSchema = Joi.object<MailReturnsAsked>({
  host: Joi.string().trim().hostname().max(253).required(),
  port: Joi.number().port().required(),
  encryption: Joi.valid('tls', 'starttls', 'none').required(),
  user: lineSchema.min(1).max(320).required(),
  password: Joi.string().min(1).max(500),
  folder: lineSchema.min(1).max(200).default('INBOX'),
});
