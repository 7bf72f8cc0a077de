import {
  GATEWAY_FIELD_LENGTH,
  GATEWAY_FORMATS,
  MOST_GATEWAY_FIELDS,
  type GatewayField,
  type TextGateway,
  FACTOR_GRACE_RANGE,
  FACTOR_WANTED,
  SESSION_DAYS_RANGE,
  SIGN_IN_OUTSIDE,
  type SecurityFacts,
} from '@quay/core';
import Joi from 'joi';
import { idSchema, nameSchema } from './common.js';
import { officeFields, type MailServer, type SetupOffice } from './setup.js';

export type OfficeSettings = SetupOffice & {
  homes: boolean;
  /** What visitors read under every share; empty: nothing. */
  words: string;
};
export const VISITOR_WORDS_MAX = 600;
export const officeSettingsSchema = Joi.object<OfficeSettings>({
  ...officeFields,
  homes: Joi.boolean().required(),
  words: Joi.string().trim().allow('').max(VISITOR_WORDS_MAX).required(),
});

/** The logo on visitors' pages. */
export interface LogoPicture {
  /** A PNG in base64 (RFC 4648 §4); null: there is none. */
  png: string | null;
}

/** How large a logo may be, in pixels and bytes; browsers draw a larger picture smaller before they send it. */
export const LOGO_MOST = { width: 800, height: 400, bytes: 150_000 } as const;
export const logoSchema = Joi.object<{ png: string }>({
  png: Joi.string()
    .base64()
    .max(Math.ceil(LOGO_MOST.bytes / 3) * 4)
    .required(),
});

/** The mail server as it is kept; the password is never given back. */
export interface MailSettings {
  server: Omit<MailServer, 'password'> | null;
  hasPassword: boolean;
  /** The configuration says it, and nothing on the screen changes it. */
  fixed: boolean;
}

/** The gateway for text messages. */
export interface TextGatewaySettings {
  gateway: TextGateway | null;
  hasSecret: boolean;
}
/** `secret` left out: the one that is kept, while messages go to the same place. */
export interface TextGatewayAsked extends TextGateway {
  secret?: string;
}
const gatewayFields = Joi.array()
  .items(
    Joi.object<GatewayField>({
      name: Joi.string().trim().min(1).max(100).required(),
      value: Joi.string().allow('').max(GATEWAY_FIELD_LENGTH).required(),
    }),
  )
  .max(MOST_GATEWAY_FIELDS)
  .required();
const textGatewayKeys = {
  url: Joi.string().trim().max(1000).required(),
  format: Joi.string()
    .valid(...GATEWAY_FORMATS)
    .required(),
  fields: gatewayFields,
  headers: gatewayFields,
  secret: Joi.string().allow('').max(GATEWAY_FIELD_LENGTH),
};
export const textGatewaySchema = Joi.object<TextGatewayAsked>(textGatewayKeys);
export interface TextTrial extends TextGatewayAsked {
  to: string;
}
export const textTrialSchema = Joi.object<TextTrial>({
  ...textGatewayKeys,
  to: Joi.string().trim().max(40).required(),
});
export interface TextTrialAnswer {
  sent: boolean;
  /** What the gateway said. */
  words: string;
}

/** A common store, for whoever runs the server. */
export interface StoreSettings {
  id: string;
  rootId: string;
  name: string;
  usedBytes: number;
  /** Since when nothing is added or changed in it; null: it is not archived. */
  archivedAt: string | null;
  /** Who may manage in it beside admins, by name; groups as such. */
  managers: string[];
  /** How many versions are kept, in words. */
  policyWords: string;
  quotaBytes: number | null;
}

/** All common stores, in the order in which people see them. */
export interface StoreOrder {
  storeIds: string[];
}
export const storeOrderSchema = Joi.object<StoreOrder>({
  storeIds: Joi.array().items(idSchema).max(1000).unique().required(),
});

export interface StoreArchived {
  archived: boolean;
}
export const storeArchivedSchema = Joi.object<StoreArchived>({ archived: Joi.boolean().required() });

export interface StoreName {
  name: string;
}
export const storeNameSchema = Joi.object<StoreName>({ name: nameSchema.max(80).required() });

export type SecuritySettings = SecurityFacts;
export const securitySettingsSchema = Joi.object<SecuritySettings>({
  sessionDays: Joi.number().integer().min(SESSION_DAYS_RANGE.min).max(SESSION_DAYS_RANGE.max).required(),
  leastStrength: Joi.number().integer().min(2).max(4).required(),
  factorWanted: Joi.valid(...FACTOR_WANTED).required(),
  factorGraceDays: Joi.number().integer().min(FACTOR_GRACE_RANGE.min).max(FACTOR_GRACE_RANGE.max).default(0),
  signInOutside: Joi.valid(...SIGN_IN_OUTSIDE).required(),
});

/** What a change would do, in words. */
export interface WouldDo {
  words: string[];
}

/** What is shipped, by whom it is, and what with. */
export interface About {
  version: string;
  /** The release of an installed server; null: it runs from a checkout. */
  release: string | null;
  node: string;
  /** As PostgreSQL says it. */
  database: string;
  /** The newest migration. */
  schema: string;
  packages: { name: string; version: string; licence: string }[];
}
