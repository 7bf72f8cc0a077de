import Joi from 'joi';
import { readFileSync } from 'node:fs';
import { readInvitation } from '@quay/relay';
import type { ReachConfig } from './config.js';

const port = Joi.number().integer().min(1).max(65_535);
const address = Joi.string().max(100);
const door = Joi.object({ host: address.required(), port: port.required() }).allow(null);
const stun = Joi.object({ address: address.required(), port: port.required() });
const probe = Joi.object({ url: Joi.string().uri().required(), token: Joi.string().min(16).required() });

/** What the file about the network may say (docs/reach.md); everything may be left out. */
const schema = Joi.object<Partial<ReachConfig>>({
  findsNetwork: Joi.boolean(),
  insideAddress: address,
  insideAddress6: address,
  insidePorts: Joi.object({ tls: port.required(), plain: port.required() }),
  tls: door,
  plain: door,
  gateway: address.allow(null),
  resolvers: Joi.array().items(address).allow(null),
  stun: Joi.alternatives(stun, Joi.array().items(stun).max(8)).allow(null),
  acmeDirectory: Joi.string().uri().allow(null),
  roots: Joi.array()
    .items(Joi.string().pattern(/-----BEGIN CERTIFICATE-----/))
    .messages({
      'string.pattern.base': '{#label} is no certificate as PEM',
    }),
  probes: Joi.object({ outside: probe, guest: probe, tunnel: probe }),
  nameHook: Joi.string().pattern(/^\//).max(400).allow(null),
  relay: Joi.string()
    .custom((code: string, helpers) => (readInvitation(code) ? code : helpers.error('relay.unreadable')))
    .messages({ 'relay.unreadable': '{#label} is no invitation of a relay, or not whole' })
    .allow(null),
  trustedProxies: Joi.array().items(address),
  checkEveryMinutes: Joi.number().integer().min(0).max(1440),
  wiring: Joi.object({
    localAddress: address.required(),
    routes: Joi.array()
      .items(
        Joi.object({
          transport: Joi.valid('tcp', 'udp').required(),
          address: address.required(),
          port: port.allow(null).required(),
          host: address.required(),
          toPort: port.allow(null).required(),
          offset: Joi.number().integer().required(),
        }),
      )
      .required(),
  }).allow(null),
});

/** @throws Error that names the file, and each member that is misspelt, missing or of another kind */
export function readReachFile(path: string): Partial<ReachConfig> {
  let read: unknown;
  try {
    read = JSON.parse(readFileSync(path, 'utf8'));
  } catch (error) {
    throw new Error(`${path} cannot be read: ${(error as Error).message}`, { cause: error });
  }
  const { value, error } = schema.validate(read, { abortEarly: false, convert: false });
  if (error) throw new Error(`${path}: ${error.details.map((d) => d.message).join('; ')}`);
  return value as Partial<ReachConfig>;
}
