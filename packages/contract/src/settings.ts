import { SESSION_DAYS_RANGE, type SecurityFacts } from '@quay/core';
import Joi from 'joi';
import { nameSchema } from './common.js';
import { officeFields, type MailServer, type SetupOffice } from './setup.js';

export type OfficeSettings = SetupOffice & { homes: boolean };
export const officeSettingsSchema = Joi.object<OfficeSettings>({ ...officeFields, homes: Joi.boolean().required() });

/** The mail server as it is kept; the password is never given back. */
export interface MailSettings {
  server: Omit<MailServer, 'password'> | null;
  hasPassword: boolean;
  /** The configuration says it, and nothing on the screen changes it. */
  fixed: boolean;
}

/** A common store, for whoever runs the server. */
export interface StoreSettings {
  id: string;
  rootId: string;
  name: string;
  usedBytes: number;
}

export interface StoreName {
  name: string;
}
export const storeNameSchema = Joi.object<StoreName>({ name: nameSchema.max(80).required() });

export type SecuritySettings = SecurityFacts;
export const securitySettingsSchema = Joi.object<SecuritySettings>({
  sessionDays: Joi.number().integer().min(SESSION_DAYS_RANGE.min).max(SESSION_DAYS_RANGE.max).required(),
  leastStrength: Joi.number().integer().min(2).max(4).required(),
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
