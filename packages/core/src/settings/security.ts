import { FACTOR_WANTED_WORDS, type FactorWanted, type SignInOutside } from '../sign-in/factor.js';
import { countOf } from '../text/size.js';

/** What an office asks of those who sign in. */
export interface SecurityFacts {
  /** A session ends so many days after it was last used. */
  sessionDays: number;
  /** The least score of a password (0 to 4, as zxcvbn gives it). */
  leastStrength: number;
  factorWanted: FactorWanted;
  /** So many days people have to set one up, before it stands in their way. */
  factorGraceDays: number;
  signInOutside: SignInOutside;
}

/** Whom a change touches. */
export interface SecurityEffects {
  /** Whose sessions would end, because they were last used too long ago. */
  unused: SessionCount;
  /** Whose sessions would end, because they were begun outside. */
  outside: SessionCount;
  /** How many people would have to set up a second factor. */
  lacking: number;
}

export interface SessionCount {
  sessions: number;
  people: number;
}

export const SESSION_DAYS_RANGE = { min: 1, max: 365, whole: true } as const;

/** What a password of a score withstands: of 4 at most (zxcvbn's own words for its scores, shortened). */
export const STRENGTH_WORDS: Record<number, string> = {
  2: 'hard to guess while tries are limited',
  3: 'hard to guess even with the stolen database, for a while',
  4: 'very hard to guess even with the stolen database',
};

/** What a change does, sentence by sentence, told before it is made. */
export function securityChangeWords(before: SecurityFacts, after: SecurityFacts, effects: SecurityEffects): string[] {
  const words: string[] = [];
  if (before.sessionDays !== after.sessionDays)
    words.push(`Whoever does nothing for ${countOf(after.sessionDays, 'day')} has to sign in again.`);
  if (after.sessionDays < before.sessionDays) words.push(endingWords(effects.unused));
  if (before.leastStrength !== after.leastStrength)
    words.push(
      `A new password is ${STRENGTH_WORDS[after.leastStrength]}. Those that people have stay until they change them.`,
    );
  if (before.factorWanted !== after.factorWanted) words.push(...factorWords(after, effects.lacking));
  else if (before.factorGraceDays !== after.factorGraceDays && after.factorWanted !== 'nobody')
    words.push(`For a second factor people have ${graceWords(after.factorGraceDays)} from when it was wanted of them.`);
  if (before.signInOutside !== after.signInOutside) {
    words.push(`${OUTSIDE_SENTENCES[after.signInOutside]} Shares stay as they are.`);
    if (after.signInOutside !== 'everybody') words.push(endingWords(effects.outside));
  }
  return words;
}

const OUTSIDE_SENTENCES: Record<SignInOutside, string> = {
  everybody: 'Everybody may sign in from outside the office.',
  factor: 'From outside the office, only those with a second factor sign in.',
  nobody: 'Nobody signs in from outside the office.',
};

function factorWords({ factorWanted: wanted, factorGraceDays: days }: SecurityFacts, lacking: number): string[] {
  const words = [`A second factor is wanted from: ${FACTOR_WANTED_WORDS[wanted]}.`];
  if (wanted !== 'nobody')
    words.push(
      lacking === 0
        ? 'All of them have one.'
        : `${countOf(lacking, 'person', 'people')} ${lacking === 1 ? 'sets' : 'set'} one up ${days === 0 ? 'before doing anything else' : `within ${graceWords(days)}, and then before doing anything else`}.`,
    );
  return words;
}

const graceWords = (days: number): string => (days === 0 ? 'no time' : countOf(days, 'day'));

const endingWords = ({ sessions, people }: SessionCount): string =>
  sessions === 0
    ? 'Nobody is signed out now.'
    : `${countOf(sessions, 'session')} of ${countOf(people, 'person', 'people')} ${sessions === 1 ? 'ends' : 'end'} now.`;

const BROWSERS: [RegExp, string][] = [
  [/Edg\//, 'Edge'],
  [/Firefox\//, 'Firefox'],
  [/OPR\//, 'Opera'],
  [/Chrome\//, 'Chrome'],
  [/Safari\//, 'Safari'],
];
const SYSTEMS: [RegExp, string][] = [
  [/iPhone/, 'iPhone'],
  [/iPad/, 'iPad'],
  [/Android/, 'Android'],
  [/Windows/, 'Windows'],
  [/Macintosh/, 'Mac'],
  [/Linux/, 'Linux'],
];

/** "Firefox on Windows", from what a browser says of itself (RFC 9110 §10.1.5); it may say anything. */
export function browserInWords(agent: string): string {
  const find = (list: [RegExp, string][]) => list.find(([pattern]) => pattern.test(agent))?.[1];
  const [browser, system] = [find(BROWSERS), find(SYSTEMS)];
  if (browser && system) return `${browser} on ${system}`;
  return browser ?? (/^curl\//.test(agent) ? 'curl' : 'Unknown browser');
}
