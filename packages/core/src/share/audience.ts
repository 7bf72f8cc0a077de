import { someNames } from '../text/names.js';

/** Whom a share is for: rules.md, Who gets in. */
export const AUDIENCES = ['anyone', 'verified', 'listed', 'members'] as const;
export type AudienceKind = (typeof AUDIENCES)[number];

/**
 * One entry of a list: a mail address, a domain, whatever lies below a domain, or a telephone number (E.164). The value
 * is canonical.
 */
export interface Listed {
  kind: 'address' | 'domain' | 'subdomains' | 'number';
  value: string;
}

export const listedText = ({ kind, value }: Listed): string => (kind === 'subdomains' ? `*.${value}` : value);

/** What a share needs of whoever opens it, beside the link and the password. */
export const needsCode = (audience: AudienceKind): boolean => audience === 'verified' || audience === 'listed';

export type AudienceFault = 'audience.empty' | 'audience.nobody';
export const AUDIENCE_FAULT_WORDS: Record<AudienceFault, string> = {
  'audience.empty': 'List at least one address, domain or number.',
  'audience.nobody': 'Choose at least one person or group.',
};

/** Why an audience is nobody at all; null: it is somebody. @param count entries of the list, and members */
export function audienceFault(kind: AudienceKind, count: { listed: number; members: number }): AudienceFault | null {
  if (kind === 'listed' && count.listed === 0) return 'audience.empty';
  return kind === 'members' && count.members === 0 ? 'audience.nobody' : null;
}

/** How long a one-time code can be used, and how often somebody may be wrong about it (common practice, no source). */
export const CODE_LIFETIME_MS = 10 * 60_000;
export const CODE_TRIES = 5;
export const CODE_DIGITS = 6;
/**
 * Codes that one address is sent in an hour, for whatever share: asked for from one source, and from all. A stranger
 * who asks in somebody's name uses up their own.
 */
export const CODES_PER_HOUR = { fromOne: 5, fromAll: 20 } as const;
/** Codes for telephones in an hour, asked for from one source and for one share: each costs the office (invented). */
export const TEXT_CODES_PER_HOUR = { fromOne: 20, ofShare: 100 } as const;
/** Wrong codes that one source may type in an hour, for whatever share and address. */
export const WRONG_CODES_PER_HOUR = 20;

/** Entries of one list at the most. */
export const MOST_RECIPIENTS = 5000;

/** Whether somebody is known by a telephone number. @param recipient canonical */
export const isNumber = (recipient: string): boolean => recipient.startsWith('+');

/**
 * The entries of a list that an address is found by: itself, its domain, and every domain above that one. Whoever keeps
 * a list looks for these and need not know how addresses are compared.
 * A number is found by itself.
 * @param address canonical, as {@link canonicalRecipient} gives it
 */
export function listingsOf(address: string): Listed[] {
  if (isNumber(address)) return [{ kind: 'number', value: address }];
  const domain = address.slice(address.lastIndexOf('@') + 1);
  const labels = domain.split('.');
  const above = labels.slice(1).map((_, i) => labels.slice(i + 1).join('.'));
  return [
    { kind: 'address', value: address },
    { kind: 'domain', value: domain },
    ...above.map((value): Listed => ({ kind: 'subdomains', value })),
  ];
}

/** Whom each is for, in the middle of a sentence. */
export const AUDIENCE_NAMES: Record<AudienceKind, string> = {
  anyone: 'anyone with the link',
  verified: 'whoever proves an address',
  listed: 'those listed',
  members: 'members',
};

/** What is said of an address: a block beats a listing. */
export type Standing = 'admitted' | 'unlisted' | 'blocked';

/**
 * @param found the entries of the share among {@link listingsOf} the address
 */
export function standingOf(audience: 'verified' | 'listed', found: { listed: boolean; blocked: boolean }): Standing {
  if (found.blocked) return 'blocked';
  return audience === 'verified' || found.listed ? 'admitted' : 'unlisted';
}

/** Why an address is not admitted, for whoever publishes; visitors are not told. */
export const STANDING_WORDS: Record<Exclude<Standing, 'admitted'>, string> = {
  unlisted: 'it is not on the list',
  blocked: 'it is among those who are never let in',
};

/** Whom the sentence of a share is about. */
export interface AudienceTerms {
  kind: AudienceKind;
  /** Of `listed`: how many entries there are. */
  listed: number;
  /** Of `members`: names of people and groups. */
  members: readonly string[];
}

export const ANYONE: AudienceTerms = { kind: 'anyone', listed: 0, members: [] };

/** The subject of the sentence, in runs; strong ones are decisions. It goes on with ", with the link," or the like. */
export function audienceWords({ kind, listed, members }: AudienceTerms): { text: string; strong: boolean }[] {
  switch (kind) {
    case 'anyone':
      return [{ text: 'Anyone', strong: false }];
    case 'verified':
      return [
        { text: 'Anyone', strong: false },
        { text: ' who proves a mail address', strong: true },
      ];
    case 'listed':
      return [
        { text: listed === 1 ? '1 listed recipient' : `${listed} listed recipients`, strong: true },
        { text: listed === 1 ? ' who proves their address' : ' who prove their address', strong: false },
      ];
    case 'members':
      return [
        { text: someNames(members) || 'Nobody yet', strong: true },
        { text: ', signed in', strong: false },
      ];
  }
}
