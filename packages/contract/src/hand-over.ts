import {
  HAND_OVER_CHANNELS,
  HANDED_OVER,
  MESSAGE_LENGTH,
  MOST_MESSAGES_AT_ONCE,
  type AttachAdvice,
  type HandedOver,
  type HandOverChannel,
  type MessageTemplate,
  type MessageValues,
} from '@quay/core';
import Joi from 'joi';
import { idSchema } from './common.js';

/** One time that link or password went to somebody. */
export interface HandOverRow {
  id: string;
  at: string;
  by: string;
  what: HandedOver;
  channel: HandOverChannel;
  /** A mail address, a number or a name; empty: nobody in particular. */
  recipient: string;
  /** Of mail, how far it came; of all else `done`. */
  state: 'waiting' | 'sent' | 'refused' | 'given-up' | 'done';
  /** What the mail server said last. */
  answer: string;
  /** What is not true any more of what they got. */
  outdated: string[];
}

/** Everything to hand a share over by. */
export interface HandOvers {
  /** Whether there is a mail server. */
  canMail: boolean;
  /** What a message begins with, and what its placeholders stand for here. */
  template: MessageTemplate;
  values: MessageValues;
  /** Whether it could be attached instead. */
  attach: AttachAdvice;
  rows: HandOverRow[];
}

export interface HandOverByMail extends MessageTemplate {
  /** The same for the same press, however often it arrives. */
  sendingId: string;
  to: string[];
  /** Whoever sends gets one, too. */
  copyToMe: boolean;
}
export const handOverByMailSchema = Joi.object<HandOverByMail>({
  sendingId: idSchema.required(),
  to: Joi.array().items(Joi.string().trim().max(320)).min(1).max(MOST_MESSAGES_AT_ONCE).required(),
  // What keeps it from being sent is said by the rule for messages.
  subject: Joi.string().max(MESSAGE_LENGTH.subject).allow('').required(),
  text: Joi.string().max(MESSAGE_LENGTH.text).allow('').required(),
  copyToMe: Joi.boolean().default(false),
});

/** What somebody did by themselves. */
export interface NoteHandOver {
  what: HandedOver;
  channel: HandOverChannel;
  recipient: string;
  /** Also where link and password went the same way. */
  sameWayMeant: boolean;
}
export const noteHandOverSchema = Joi.object<NoteHandOver>({
  what: Joi.valid(...HANDED_OVER).required(),
  // Mail that the office sends writes itself down.
  channel: Joi.valid(...HAND_OVER_CHANNELS.filter((channel) => channel !== 'mail')).required(),
  recipient: Joi.string().trim().max(320).allow('').default(''),
  sameWayMeant: Joi.boolean().default(false),
});
