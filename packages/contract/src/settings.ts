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
