import { isProviderUrl } from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema } from './common.js';

/** How an identity provider is asked who somebody is (OpenID Connect, with PKCE). */
export interface ProviderSettings {
  /** What the button says: "Sign in by NAME". */
  name: string;
  issuer: string;
  clientId: string;
  /** The address of this office at which people sign in; the provider sends them back there. */
  origin: string;
  makesAccounts: boolean;
  domains: string[];
  /** The claim that names groups; empty: none. */
  groupsClaim: string;
  /** Which of its groups are which of here. */
  groups: { claim: string; groupId: string }[];
}
/** Null: the secret that is kept. */
export type KeepProvider = ProviderSettings & { clientSecret: string | null };

const address = Joi.string()
  .trim()
  .uri({ scheme: ['https', 'http'] })
  .max(500)
  .custom((value: string, helpers) => (isProviderUrl(value) ? value : helpers.error('provider.plain')))
  .messages({ 'provider.plain': 'It begins with https://.' });
export const keepProviderSchema = Joi.object<KeepProvider>({
  name: lineSchema.min(1).max(40).required(),
  issuer: address.required(),
  clientId: Joi.string().trim().min(1).max(300).required(),
  clientSecret: Joi.string().min(1).max(1000).allow(null).required(),
  origin: address.required(),
  makesAccounts: Joi.boolean().required(),
  domains: Joi.array()
    .items(Joi.string().trim().lowercase().domain({ tlds: false }).max(253))
    .max(50)
    .unique()
    .required(),
  groupsClaim: Joi.string()
    .trim()
    .allow('')
    .pattern(/^[\w:./-]+$/)
    .max(200)
    .required(),
  groups: Joi.array()
    .items(Joi.object({ claim: Joi.string().trim().min(1).max(300).required(), groupId: idSchema.required() }))
    .max(200)
    .required(),
});

export interface Provider {
  settings: ProviderSettings | null;
  /** Where the provider is to send people back, as it has to be told. */
  callback: string | null;
  /** How many sign in by it. */
  people: number;
}

/** What was found at an issuer, before it is kept. */
export interface ProviderTrial {
  works: boolean;
  words: string;
}

/** What is offered beside the password. */
export interface SignInWays {
  /** Null: no provider. */
  provider: { name: string } | null;
}
