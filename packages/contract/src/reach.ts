import type {
  AddressUses,
  Exposure,
  GuideEntry,
  PlannedLine,
  ReachMark,
  StageResult,
  Vantage,
  WayCompared,
  WayIn,
} from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema } from './common.js';

const hostLabel = /^(?!-)[a-z0-9-]{1,63}(?<!-)$/;
/** A host name in A-label form (RFC 1123 §2.1, RFC 5890) or an address. */
const host = lineSchema
  .lowercase()
  .max(253)
  .custom((value: string, helpers) => {
    const labels = value.replace(/\.$/, '').split('.');
    return labels.every((l) => hostLabel.test(l)) || /^[0-9a-f:]+$/.test(value)
      ? value.replace(/\.$/, '')
      : helpers.error('host.malformed');
  })
  .messages({ 'host.malformed': 'That is no host name: letters, digits, hyphens and dots.' });
const prefix = Joi.string()
  .allow('')
  .max(100)
  // A segment of dots alone is taken for a way up and removed by whoever follows the link (RFC 3986 §5.2.4).
  .pattern(/^(\/(?!\.{1,2}(\/|$))[\w.~-]+)*$/)
  .messages({
    'string.pattern.base':
      'A path begins with a slash, has none at its end and no part that is only dots, as in /files.',
  });
const secret = Joi.string()
  .base64()
  .min(16)
  .max(200)
  .messages({ 'string.base64': 'The secret is written in base64, as the name server shows it.' });

export interface NewAddress {
  wayIn: WayIn;
  scheme: 'http' | 'https';
  host: string;
  port: number | null;
  pathPrefix: string;
  uses: AddressUses;
}
const shape = {
  wayIn: Joi.string().valid('mapping', 'fixed', 'relay', 'office'),
  scheme: Joi.string().valid('http', 'https'),
  host,
  port: Joi.number().integer().min(1).max(65_535).allow(null),
  pathPrefix: prefix,
  uses: Joi.string().valid('visitors', 'sign-in', 'drive'),
};
export const newAddressSchema = Joi.object<NewAddress>({
  wayIn: shape.wayIn.required(),
  scheme: shape.scheme.required(),
  host: shape.host.required(),
  port: shape.port.default(null),
  pathPrefix: shape.pathPrefix.default(''),
  uses: shape.uses.default('visitors'),
});

export interface ChangeAddress extends Partial<NewAddress> {
  isDefault?: true;
  fallback?: 'offer' | 'auto';
  redirect?: boolean;
  hsts?: boolean;
  /** Links that were handed over would change: whoever changes the address has seen which. */
  linksSeen?: boolean;
}
export const changeAddressSchema = Joi.object<ChangeAddress>({
  ...shape,
  isDefault: Joi.boolean().valid(true),
  fallback: Joi.string().valid('offer', 'auto'),
  redirect: Joi.boolean(),
  hsts: Joi.boolean(),
  linksSeen: Joi.boolean(),
}).min(1);

export const moveLinksSchema = Joi.object<{ to: string }>({ to: idSchema.required() });

export interface NameServerSettings {
  address: string;
  port: number;
  zone: string;
  keyName: string;
  /** Base64; taken, never told. */
  secret: string;
}
export const nameServerSchema = Joi.object<NameServerSettings>({
  address: Joi.string().ip({ cidr: 'forbidden' }).required(),
  port: Joi.number().integer().min(1).max(65_535).default(53),
  zone: host.required(),
  keyName: host.required(),
  secret: secret.required(),
});
/** A certificate that was got by hand, with the chain up to but without the root, and its key; both as PEM. */
export const ownCertificateSchema = Joi.object<{ chain: string; key: string }>({
  chain: Joi.string().max(60_000).required(),
  key: Joi.string().max(20_000).required(),
});
export const networkSchema = Joi.string<'public' | 'office' | 'guest'>().valid('public', 'office', 'guest').required();

export const remedySchema = Joi.object<{ act: RemedyAct }>({
  act: Joi.string()
    .valid('update-record', 'map-port', 'get-certificate', 'redirect-on', 'office-record', 'use-relay')
    .required(),
});
export type RemedyAct =
  'update-record' | 'map-port' | 'get-certificate' | 'redirect-on' | 'office-record' | 'use-relay';
export const guideStepSchema = Joi.object<{ step: string; how: 'program' | 'hand' }>({
  step: Joi.string().valid('record', 'mapping', 'relay', 'certificate', 'redirect', 'closed').required(),
  how: Joi.string().valid('program', 'hand').required(),
});

export const plannedLineSchema = Joi.object<PlannedLine>({
  line: Joi.string().valid('own', 'shared', 'behind-router').required(),
  fixed: Joi.boolean().required(),
  router: Joi.string().valid('protocol', 'by-hand', 'closed').required(),
  domain: Joi.boolean().required(),
  uploadMbit: Joi.number().min(0.1).max(100_000).required(),
  relayMbit: Joi.number().min(0.1).max(100_000).required(),
});
export type { AddressUses, WayCompared };

export interface AddressRow extends NewAddress {
  id: string;
  text: string;
  isDefault: boolean;
  redirect: boolean;
  hsts: boolean;
  fallback: 'offer' | 'auto';
  /** Why links on it cannot work outside; null when they can. */
  portability: string | null;
  /** Shares whose links are built on it and could still be opened. */
  shareCount: number;
  mark: ReachMark;
  /** What is wrong, from the newest check; null when nothing is. */
  trouble: { words: string; reason: string } | null;
  /** A renewal that failed and would lapse. */
  lapsing: string | null;
  checkedAt: string | null;
  createdAt: string;
}

export interface GuideProgress extends GuideEntry {
  done: { at: string; by: 'program' | 'hand' } | null;
}

export interface VantageResult {
  vantage: Vantage;
  /** null when nobody stands there; `unavailable` says why. */
  trace: StageResult[] | null;
  exchange: string[];
  unavailable: string | null;
}

export interface ReachCheck {
  id: string;
  at: string;
  why: 'asked' | 'schedule' | 'change' | 'remedy';
  tookMs: number;
  mark: ReachMark;
  vantages: VantageResult[];
}

export interface Upkeep {
  kind: 'record' | 'mapping' | 'certificate';
  /** When it lapses; null: not by itself. */
  endsAt: string | null;
  /** When the program renews it; null: not by itself. */
  renewsAt: string | null;
  failure: string | null;
  words: string;
}

export interface AddressSheet extends AddressRow {
  guide: GuideProgress[];
  check: ReachCheck | null;
  history: { id: string; at: string; why: ReachCheck['why']; mark: ReachMark; tookMs: number }[];
  upkeep: Upkeep[];
}

/** A share whose link would change with its address. */
export interface AffectedLink {
  shareId: string;
  title: string;
  /** null for what is shared from somebody else's home. */
  link: string | null;
  handedOver: boolean;
}

export interface ReachNetwork {
  insideAddress: string;
  gateway: string | null;
  publicAddress: string | null;
  nameServers: {
    network: 'public' | 'office' | 'guest';
    address: string;
    port: number;
    zone: string;
    keyName: string;
  }[];
  probes: string[];
}

export interface TelephoneProof {
  url: string;
  endsAt: string;
  seen: { at: string; from: string; protocol: string; outside: boolean } | null;
}

export type ExposureAnswer = { at: string; rows: Exposure[]; unavailable: string | null };
