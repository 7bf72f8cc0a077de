import Joi from 'joi';
import { lineSchema } from './common.js';

// Web Authentication (W3C, Level 3): what browsers hand over, as far as it is looked at before it is verified.

/** A key of a device that signs in for its owner. */
export interface PasskeyRow {
  /** As the device names it, base64url. */
  id: string;
  name: string;
  addedAt: string;
  usedAt: string | null;
  /** It signs in at this name of the server, and at no other. */
  host: string;
}

export interface Passkeys {
  keys: PasskeyRow[];
  /** Why none can be added where the server is asked now; null: one can. */
  hindrance: string | null;
}

const base64url = (most: number) =>
  Joi.string()
    .pattern(/^[\w-]+$/)
    .max(most);
const client = { clientDataJSON: base64url(6000).required() };
const rest = { rawId: base64url(1400), type: Joi.string().valid('public-key'), clientExtensionResults: Joi.object() };

export interface AddPasskey {
  name: string;
  response: { id: string; response: { clientDataJSON: string; attestationObject: string; transports?: string[] } };
}
export const addPasskeySchema = Joi.object<AddPasskey>({
  name: lineSchema.min(1).max(60).required(),
  response: Joi.object({
    id: base64url(1400).required(),
    ...rest,
    authenticatorAttachment: Joi.string().max(40).allow(null),
    response: Joi.object({ ...client, attestationObject: base64url(60_000).required() })
      .unknown(true)
      .required(),
  }).required(),
});

export interface PasskeySignIn {
  response: { id: string; response: { clientDataJSON: string; authenticatorData: string; signature: string } };
}
export const passkeySignInSchema = Joi.object<PasskeySignIn>({
  response: Joi.object({
    id: base64url(1400).required(),
    ...rest,
    authenticatorAttachment: Joi.string().max(40).allow(null),
    response: Joi.object({
      ...client,
      authenticatorData: base64url(10_000).required(),
      signature: base64url(4000).required(),
      userHandle: base64url(200).allow(null),
    })
      .unknown(true)
      .required(),
  }).required(),
});
export const passkeyIdSchema = base64url(1400).required();
