import type {
  AddressUses,
  Exposure,
  GuideEntry,
  OrderStep,
  PlannedLine,
  ReachMark,
  SeenFromOutside,
  StageResult,
  Vantage,
  WayAdvised,
  WayCompared,
  WayIn,
} from '@quay/core';
import { addressBytes, addressScope, unknownPlaces, USUAL_UPDATE_WORDS, WATCHED_PATHS } from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema } from './common.js';

const hostLabel = /^(?!-)[a-z0-9-]{1,63}(?<!-)$/;
/** A host name in A-label form (RFC 1123 §2.1, RFC 5890) or an address. */
export const hostSchema = lineSchema
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
  host: hostSchema,
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
  /** A name, or an address in any spelling. */
  address: hostSchema.required(),
  port: Joi.number().integer().min(1).max(65_535).default(53),
  zone: hostSchema.required(),
  keyName: hostSchema.required(),
  secret: secret.required(),
});
/** Where a name is changed that takes no signed updates: an address with places that are filled in. */
export interface NameUpdate {
  name: string;
  url: string;
  user: string;
  /** Taken, never told. */
  secret: string;
  /** What an answer begins with, or holds, when it is done. */
  words: string[];
}
export const nameUpdateSchema = Joi.object<NameUpdate>({
  name: hostSchema.required(),
  url: Joi.string()
    .max(1000)
    .pattern(/^https:\/\/[^\s{}/]+\/[^\s#]*$/)
    .custom((url: string, helpers) => {
      const unknown = unknownPlaces(url);
      return unknown.length === 0 ? url : helpers.error('update.place', { unknown: unknown.join(', ') });
    })
    .required()
    .messages({
      'string.pattern.base':
        'It begins with https:// and a host name, and may hold {name}, {ipv4}, {ipv6}, {user} and {secret}.',
      'update.place': 'Nobody knows how to fill in {#unknown}. There are name, ipv4, ipv6, user and secret.',
    }),
  user: lineSchema.allow('').max(200).default(''),
  secret: Joi.string().allow('').max(400).default(''),
  words: Joi.array()
    .items(lineSchema.max(100))
    .min(1)
    .max(10)
    .default([...USUAL_UPDATE_WORDS]),
});
/** What the server goes by in its network: found by itself where nothing is said here or in the file. */
export const NETWORK_VALUES = ['gateway', 'insideAddress', 'insideAddress6', 'resolvers', 'stun', 'authority'] as const;
export type NetworkValue = (typeof NETWORK_VALUES)[number];
export const NETWORK_VALUE_WORDS: Record<NetworkValue, string> = {
  gateway: 'Router',
  insideAddress: 'This server',
  insideAddress6: 'This server over IPv6',
  resolvers: 'Name servers',
  stun: 'STUN servers',
  authority: 'Certificate authority',
};
/** Where a value is known from: the file says it, it was typed in, the machine was asked, or nobody knows it. */
export type Whence = 'file' | 'settings' | 'machine' | 'nobody';

/** An address of one of these lengths in bytes, where another machine can be. */
const address = (...lengths: number[]) =>
  lineSchema
    .max(45)
    .custom((value: string, helpers) => {
      const isElsewhere = !['loopback', 'other'].includes(addressScope(value) ?? 'other');
      return isElsewhere && lengths.includes(addressBytes(value)?.length ?? 0)
        ? value
        : helpers.error('network.nowhere');
    })
    .messages({
      'network.nowhere': `That is no ${lengths.map((n) => (n === 4 ? 'IPv4' : 'IPv6')).join(' or ')} address at which a machine can be found.`,
    });
/** A name or an address, and a port where it is another than the usual one. */
const stunServer = lineSchema
  .max(260)
  .pattern(/^(\[[0-9a-fA-F:.]+\]|[A-Za-z0-9.-]+)(:\d{1,5})?$/)
  .messages({ 'string.pattern.base': 'That is a name or an address, with a colon and the port where it is not 3478.' });
const directory = Joi.string()
  .max(400)
  .uri({ scheme: 'https' })
  .messages({ 'string.uriCustomScheme': 'It begins with https://, as the authority gives it.' });
const MOST: Record<NetworkValue, number> = {
  gateway: 1,
  insideAddress: 1,
  insideAddress6: 1,
  resolvers: 8,
  stun: 8,
  authority: 1,
};
const ITEMS: Record<NetworkValue, Joi.Schema> = {
  gateway: address(4),
  insideAddress: address(4),
  insideAddress6: address(16),
  resolvers: address(4, 16),
  stun: stunServer,
  authority: directory,
};
export const networkValueNameSchema = Joi.string<NetworkValue>()
  .valid(...NETWORK_VALUES)
  .required();
/** What is said of one of them: at least one value, at most as many as are of use. */
export const networkValueSchema = (name: NetworkValue) =>
  Joi.object<{ value: string[] }>({
    value: Joi.array().items(ITEMS[name]).min(1).max(MOST[name]).unique().required(),
  });

/** Whom a certificate authority knows the office as already (RFC 8555 §7.3.4), as it was given out there. */
export interface AccountBinding {
  id: string;
  /** Base64url; taken, never told. */
  key: string;
}
export const accountBindingSchema = Joi.object<AccountBinding>({
  id: lineSchema.max(200).required(),
  key: Joi.string()
    .pattern(/^[\w-]{16,400}={0,2}$/)
    .required()
    .messages({ 'string.pattern.base': 'The key is written in base64url, as the authority shows it.' }),
});
/** A certificate that was got by hand, with the chain up to but without the root, and its key; both as PEM. */
export const ownCertificateSchema = Joi.object<{ chain: string; key: string }>({
  chain: Joi.string().max(60_000).required(),
  key: Joi.string().max(20_000).required(),
});
/** What another office says of itself when it takes a code. */
export interface LookoutPair {
  name: string;
  /** Where it can be called; null: nowhere yet. */
  url: string | null;
  /** By which it is to be asked. */
  secret: string;
}
const lookoutUrl = Joi.string()
  .max(400)
  .pattern(/^https:\/\/[^/?#@\s]+(\/[\w./~-]*)?$/)
  .allow(null)
  .required();
export const lookoutPairSchema = Joi.object<LookoutPair>({
  name: lineSchema.max(200).required(),
  url: lookoutUrl,
  secret: Joi.string()
    .pattern(/^[\w-]{43}$/)
    .required(),
});
/** What another office wants looked at (packages/probe says what comes of it). */
export interface LookoutAsk {
  url: string | null;
  ask: { url: string; path: string; roots?: string[]; address?: string | null; morePaths?: string[] };
}
/** Only what shows whether a way in works: a proof, or a page that is looked at from outside. */
const lookedAt = Joi.string().pattern(/^\/reach\/probe\/[\w-]{10,100}$/);
export const lookoutAskSchema = Joi.object<LookoutAsk>({
  url: lookoutUrl,
  ask: Joi.object({
    url: Joi.string()
      .max(400)
      .pattern(/^https?:\/\/[^/?#@\s]+(\/[\w./~-]*)?$/)
      .required(),
    path: Joi.alternatives(lookedAt, Joi.valid('/', ...WATCHED_PATHS.map(({ path }) => path))).required(),
    roots: Joi.array().items(Joi.string().max(10_000)).max(5),
    address: Joi.string().ip({ cidr: 'forbidden' }).allow(null),
    morePaths: Joi.array().items(lookedAt).max(3),
  }).required(),
});
/** Another Lockfast Quay that looks at this one from outside, and the other way round. */
export interface LookoutState {
  id: string;
  name: string;
  url: string | null;
  since: string;
  /** When it last looked for this office, and when this one last looked for it; null: never. */
  answeredAt: string | null;
  askedAt: string | null;
  /** Why it did not answer the last time; null: it did. */
  failure: string | null;
}
/** One word from another office. */
export const lookoutCodeSchema = Joi.object<{ code: string }>({ code: Joi.string().trim().max(900).required() });
export interface LookoutCode {
  code: string;
  endsAt: string;
}

/** What a relay invited the office with, as one word. */
export const invitationSchema = Joi.object<{ code: string }>({ code: Joi.string().trim().max(800).required() });
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
  /** Its own way in, which failed: the relay is used until that works again. */
  fellFrom: 'mapping' | 'fixed' | null;
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
  /** Who was seen to come in from there, where nobody stands there who could look. */
  seen?: { at: string; by: SeenFromOutside['by'] } | null;
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

/** A certificate that is being got, or could not be. */
export interface CertificateOrder {
  step: OrderStep;
  /** What is going on. */
  words: string;
  askedAt: string;
  /** Why there is none, with what the authority said; null: it is under way. */
  failure: string | null;
}

/** What came of a remedy: the check after it, or work that was begun and takes as long as others take. */
export type RemedyAnswer = ReachCheck | { order: CertificateOrder };

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
  order: CertificateOrder | null;
}

/** A share whose link would change with its address. */
export interface AffectedLink {
  shareId: string;
  title: string;
  /** null for what is shared from somebody else's home. */
  link: string | null;
  handedOver: boolean;
}

export interface RelayState {
  host: string;
  /** As whom the relay knows this office. */
  office: string;
  from: 'file' | 'settings';
  /** Why no line stands; null: one does. */
  trouble: string | null;
  /** The names that it passes on to this office. */
  names: string[];
  /** Where names must lead to come to it. */
  addresses: string[];
}

export interface ReachNetwork {
  /** What the server goes by, and where each is known from; nothing: nobody knows it, or there is none. */
  own: Record<NetworkValue, { value: string[]; from: Whence }>;
  /** Where outsiders are let in: the port, and why it is not open; null: it is. */
  doors: { kind: 'tls' | 'plain'; port: number; fault: string | null }[];
  publicAddress: string | null;
  /** Which way in fits, from what was found. */
  advice: WayAdvised;
  nameServers: {
    network: 'public' | 'office' | 'guest';
    address: string;
    port: number;
    zone: string;
    keyName: string;
  }[];
  probes: string[];
  /** Other Lockfast Quays that look at this one from outside. */
  lookouts: LookoutState[];
  /** Where a name is changed by an address that is asked for; null: nowhere. */
  nameUpdate: Omit<NameUpdate, 'secret'> | null;
  /** A program of this machine that changes names (docs/reach.md); null: none. */
  nameHook: string | null;
  /** The relay that the office was invited to; null: none. */
  relay: RelayState | null;
  /** Where certificates are got; null: nowhere. `bindingId`: as whom, where the authority knew the office before. */
  authority: { directory: string; bindingId: string | null } | null;
}

export interface TelephoneProof {
  url: string;
  endsAt: string;
  seen: { at: string; from: string; protocol: string; outside: boolean } | null;
}

export type ExposureAnswer = { at: string; rows: Exposure[]; unavailable: string | null };
