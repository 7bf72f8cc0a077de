import { countOf } from '../text/size.js';
import type { Instant } from '../text/when.js';
import { extendedBy, type Window } from '../window/window.js';
import { AUDIENCE_NAMES, AUDIENCES, listingsOf, type AudienceKind, type Listed } from './audience.js';
import { SHARE_LEVEL_WORDS, SHARE_LEVELS, type ShareLevel } from './may.js';
import { marksPictures, type Watermark } from './watermark.js';

/** What an admin has shares and intakes of the office, or of one store, keep to. */
export interface Guardrails {
  /** Days that a share is open at most, from when it opens; null: any number. */
  longestDays: number | null;
  /** A share has an end. */
  endNeeded: boolean;
  passwordNeeded: boolean;
  /** A password that is easy to guess is not taken, whatever is said. */
  strongPassword: boolean;
  /** Whom shares may be for, and what visitors may do: those that are named. */
  audiences: AudienceKind[];
  levels: ShareLevel[];
  /** What visitors get is marked for each of them. */
  watermarkNeeded: boolean;
  /** Visits at most; null: any number. */
  mostVisits: number | null;
  /** Addresses are listed below these alone; none: any. */
  domains: Listed[];
  /** Links are built on these alone; none: on any. */
  addresses: RailAddress[];
  /** Whoever publishes has a second factor. */
  factorNeeded: boolean;
}

/** An address that links may be built on, and how it was written when the rule was made. */
export interface RailAddress {
  id: string;
  text: string;
}

export const NO_GUARDRAILS: Guardrails = {
  ...{ longestDays: null, endNeeded: false, passwordNeeded: false, strongPassword: false },
  ...{ audiences: [...AUDIENCES], levels: [...SHARE_LEVELS], watermarkNeeded: false, mostVisits: null },
  ...{ domains: [], addresses: [], factorNeeded: false },
};

export const LONGEST_DAYS_RANGE = { min: 1, max: 3650, whole: true } as const;
/** Domains that one set of guardrails names. */
export const MOST_RAIL_DOMAINS = 200;
/** Addresses of links that it names. */
export const MOST_RAIL_ADDRESSES = 50;

/** Guardrails and whose they are: a store's name; null: the office's. */
export interface NamedGuardrails {
  of: string | null;
  rails: Guardrails;
}

/** What guardrails are asked about. */
export interface RailTerms {
  window: Window;
  /** When it was published, or is now. */
  madeAt: Instant;
  hasPassword: boolean;
  /** How hard its password is to guess, from 0 to 4; null: not known, or proposed. */
  passwordScore: number | null;
  audience: AudienceKind;
  /** Of `listed`. */
  listed: readonly Listed[];
  level: ShareLevel;
  watermark: Watermark;
  visitLimit: number | null;
  /** Of the address that its link is built on. */
  addressId: string;
  publisherHasFactor: boolean;
}

/** What an intake is asked about: it lets nobody look, and takes in what contributors bring. */
export type IntakeRailTerms = Omit<RailTerms, 'level' | 'watermark' | 'visitLimit'>;

export type RailField = 'window' | 'password' | 'audience' | 'may' | 'watermark' | 'limit' | 'address' | 'publisher';
/** The smallest change by which a share keeps to a rule. */
export type RailFix =
  | { change: 'closes'; closesAt: Instant; words: string }
  | { change: 'password'; words: string }
  | { change: 'audience'; audience: AudienceKind; words: string }
  | { change: 'take-off'; listed: Listed[]; words: string }
  | { change: 'level'; level: ShareLevel; words: string }
  | { change: 'watermark'; watermark: Watermark; words: string }
  | { change: 'visits'; visitLimit: number; words: string }
  | { change: 'address'; addressId: string; words: string };

export interface RailFault {
  rail: keyof Guardrails;
  field: RailField;
  /** Whose rule it is, and what it says. */
  words: string;
  /** Null: nothing about the share would do. */
  fix: RailFix | null;
}

/** Of what is allowed, the nearest that lets in less, or else the nearest that lets in more. */
function nearest<T>(order: readonly T[], allowed: readonly T[], present: T): T | null {
  const at = order.indexOf(present);
  const narrower = order.slice(at + 1).find((each) => allowed.includes(each));
  return narrower ?? [...order.slice(0, at)].reverse().find((each) => allowed.includes(each)) ?? null;
}

const covers = (domains: readonly Listed[], entry: Listed): boolean => {
  const named = ({ kind, value }: Listed) => domains.some((d) => d.kind === kind && d.value === value);
  if (named(entry)) return true;
  if (entry.kind === 'number') return false;
  if (entry.kind === 'address') return listingsOf(entry.value).some(named);
  // A domain, or what lies below it, is covered by what covers an address in it.
  const at = listingsOf(`any@${entry.kind === 'domain' ? entry.value : `any.${entry.value}`}`);
  return at.some((d) => d.kind !== 'address' && named(d));
};

interface Asked {
  terms: RailTerms;
  rails: Guardrails;
  zone: string;
  of: Judged;
}

/** What is judged, as the rules speak of one, and of many. */
interface Judged {
  one: string;
  many: string;
  /** Rules that say nothing of it. */
  without: readonly (keyof Guardrails)[];
}
const SHARE: Judged = { one: 'a share', many: 'shares', without: [] };
const INTAKE: Judged = { one: 'an intake', many: 'intakes', without: ['watermarkNeeded', 'mostVisits'] };

type Judge = (asked: Asked) => Omit<RailFault, 'rail' | 'field'> | null;

/** How each rule is judged, and the field that it is about. */
const JUDGES: Record<keyof Guardrails, { field: RailField; judge: Judge }> = {
  endNeeded: {
    field: 'window',
    judge: ({ terms, rails, zone, of }) =>
      rails.endNeeded && terms.window.closesAt === null
        ? {
            words: `${of.one} has an end.`,
            fix: closing(extendedBy(begins(terms), rails.longestDays ?? 30, zone), rails.longestDays ?? 30),
          }
        : null,
  },
  longestDays: {
    field: 'window',
    judge: ({ terms, rails: { longestDays, endNeeded }, zone, of }) => {
      if (longestDays === null) return null;
      const { closesAt } = terms.window;
      // That there is no end at all is told by the other rule, where it stands.
      if (closesAt === null && endNeeded) return null;
      const last = extendedBy(begins(terms), longestDays, zone);
      if (closesAt !== null && closesAt <= last) return null;
      return {
        words: `${of.one} is open for at most ${countOf(longestDays, 'day')}.`,
        fix: closing(last, longestDays),
      };
    },
  },
  passwordNeeded: {
    field: 'password',
    judge: ({ terms, rails, of }) =>
      rails.passwordNeeded && !terms.hasPassword
        ? { words: `${of.one} has a password.`, fix: { change: 'password', words: 'Propose one' } }
        : null,
  },
  strongPassword: {
    field: 'password',
    judge: ({ terms, rails }) =>
      rails.strongPassword && terms.hasPassword && (terms.passwordScore ?? 4) < 3
        ? { words: 'no password that is easy to guess.', fix: { change: 'password', words: 'Propose one' } }
        : null,
  },
  audiences: {
    field: 'audience',
    judge: ({ terms, rails: { audiences }, of }) => {
      if (audiences.includes(terms.audience)) return null;
      const audience = nearest(AUDIENCES, audiences, terms.audience);
      const fix = audience && { change: 'audience' as const, audience, words: `For ${AUDIENCE_NAMES[audience]}` };
      return { words: `${of.many} are not for ${AUDIENCE_NAMES[terms.audience]}.`, fix };
    },
  },
  domains: {
    field: 'audience',
    judge: ({ terms, rails: { domains }, of }) => {
      if (domains.length === 0 || terms.audience !== 'listed') return null;
      const outside = terms.listed.filter((entry) => !covers(domains, entry));
      if (outside.length === 0) return null;
      const who = outside.length === 1 ? (outside[0] as Listed).value : countOf(outside.length, 'entry', 'entries');
      return {
        words: `${who} ${outside.length === 1 ? 'is' : 'are'} outside the domains that ${of.many} may go to.`,
        fix:
          outside.length < terms.listed.length
            ? {
                change: 'take-off',
                listed: outside,
                words: `Take ${outside.length === 1 ? 'it' : 'them'} off the list`,
              }
            : null,
      };
    },
  },
  levels: {
    field: 'may',
    judge: ({ terms, rails: { levels }, of }) => {
      if (levels.includes(terms.level)) return null;
      if (of === INTAKE) return { words: 'nothing is taken in from outside.', fix: null };
      const level = nearest([...SHARE_LEVELS].reverse(), levels, terms.level);
      const fix = level && { change: 'level' as const, level, words: SHARE_LEVEL_WORDS[level] };
      return { words: `"${SHARE_LEVEL_WORDS[terms.level]}" is not among what visitors may do.`, fix };
    },
  },
  watermarkNeeded: {
    field: 'watermark',
    judge: ({ terms, rails }) =>
      // What is only looked at is marked; where that cannot stay so, what is taken then must be.
      rails.watermarkNeeded && !(marksPictures(terms) && (terms.watermark !== 'none' || rails.levels.includes('view')))
        ? {
            words: 'what visitors get is marked for them.',
            fix: { change: 'watermark', watermark: 'others-plain', words: 'Mark it' },
          }
        : null,
  },
  mostVisits: {
    field: 'limit',
    judge: ({ terms, rails: { mostVisits } }) =>
      mostVisits !== null && (terms.visitLimit === null || terms.visitLimit > mostVisits)
        ? {
            words: `at most ${countOf(mostVisits, 'visit')}.`,
            fix: { change: 'visits', visitLimit: mostVisits, words: `Allow ${mostVisits}` },
          }
        : null,
  },
  addresses: {
    field: 'address',
    judge: ({ terms, rails: { addresses } }) => {
      const [first] = addresses;
      if (!first || addresses.some((a) => a.id === terms.addressId)) return null;
      return {
        words: `links are built on ${orNames(addresses)}.`,
        fix: { change: 'address', addressId: first.id, words: `Build it on ${first.text}` },
      };
    },
  },
  factorNeeded: {
    field: 'publisher',
    judge: ({ terms, rails }) =>
      rails.factorNeeded && !terms.publisherHasFactor
        ? { words: 'whoever publishes has a second factor. Set one up under your name.', fix: null }
        : null,
  },
};

const orNames = (addresses: readonly RailAddress[]): string => addresses.map((a) => a.text).join(' or ');

const begins = ({ window, madeAt }: RailTerms): Instant => Math.max(window.opensAt ?? madeAt, madeAt);
const closing = (closesAt: Instant, days: number): RailFix => ({
  change: 'closes',
  closesAt,
  words: `Close it after ${countOf(days, 'day')}`,
});

/**
 * Each rule that a share does not keep to, once: where several say the same of it, the strictest.
 * @param zone days of a window are days of the office's calendar
 */
export const guardrailFaults = (terms: RailTerms, all: readonly NamedGuardrails[], zone: string): RailFault[] =>
  faultsOf({ terms, zone, of: SHARE }, all);

/** The same of an intake, which the rules for shares that files are added to hold for. */
export const intakeRailFaults = (terms: IntakeRailTerms, all: readonly NamedGuardrails[], zone: string): RailFault[] =>
  faultsOf({ terms: { ...terms, level: 'contribute', watermark: 'none', visitLimit: null }, zone, of: INTAKE }, all);

function faultsOf(asked: Omit<Asked, 'rails'>, all: readonly NamedGuardrails[]): RailFault[] {
  const found: (RailFault & { of: string | null })[] = [];
  for (const { of, rails } of all)
    for (const [rail, { field, judge }] of Object.entries(JUDGES) as [
      keyof Guardrails,
      (typeof JUDGES)[keyof Guardrails],
    ][]) {
      if (asked.of.without.includes(rail)) continue;
      const fault = judge({ ...asked, rails });
      if (fault) found.push({ rail, field, ...fault, of, words: `${of ?? 'The office'}: ${fault.words}` });
    }
  const strictest = new Map<keyof Guardrails, RailFault>();
  for (const { of: _, ...fault } of found) {
    const before = strictest.get(fault.rail);
    if (!before || isStricter(fault.fix, before.fix)) strictest.set(fault.rail, fault);
  }
  return [...strictest.values()];
}

/** Whether a change asks for more than another of the same rule. */
function isStricter(fix: RailFix | null, than: RailFix | null): boolean {
  if (fix === null || than === null) return fix === null && than !== null;
  if (fix.change === 'closes' && than.change === 'closes') return fix.closesAt < than.closesAt;
  if (fix.change === 'visits' && than.change === 'visits') return fix.visitLimit < than.visitLimit;
  return false;
}

/** What guardrails say, a sentence for each rule; none: everything may be. */
export function guardrailWords(rails: Guardrails): string[] {
  const { longestDays, audiences, levels, mostVisits, domains } = rails;
  const not = <T>(all: readonly T[], allowed: readonly T[]) => all.filter((each) => !allowed.includes(each));
  return [
    longestDays !== null && `A share is open for at most ${countOf(longestDays, 'day')}.`,
    rails.endNeeded && longestDays === null && 'A share has an end.',
    rails.passwordNeeded && 'A share has a password.',
    rails.strongPassword && 'No password that is easy to guess.',
    audiences.length < AUDIENCES.length &&
      `Not for ${not(AUDIENCES, audiences)
        .map((each) => AUDIENCE_NAMES[each])
        .join(', nor for ')}.`,
    domains.length > 0 && `Lists hold addresses of ${countOf(domains.length, 'domain')} alone.`,
    levels.length < SHARE_LEVELS.length &&
      `Visitors may: ${SHARE_LEVELS.filter((each) => levels.includes(each))
        .map((each) => SHARE_LEVEL_WORDS[each].toLowerCase())
        .join(', ')}; nothing else.`,
    rails.watermarkNeeded && 'What visitors get is marked for them.',
    mostVisits !== null && `At most ${countOf(mostVisits, 'visit')}.`,
    rails.addresses.length > 0 && `Links are built on ${orNames(rails.addresses)} alone.`,
    rails.factorNeeded && 'Whoever publishes has a second factor.',
  ].filter((words) => words !== false);
}
