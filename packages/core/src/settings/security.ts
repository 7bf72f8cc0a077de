import { countOf } from '../text/size.js';

/** What an office asks of those who sign in. */
export interface SecurityFacts {
  /** A session ends so many days after it was last used. */
  sessionDays: number;
  /** The least score of a password (0 to 4, as zxcvbn gives it). */
  leastStrength: number;
}

export const SESSION_DAYS_RANGE = { min: 1, max: 365, whole: true } as const;

/** What a password of a score withstands: of 4 at most (zxcvbn's own words for its scores, shortened). */
export const STRENGTH_WORDS: Record<number, string> = {
  2: 'hard to guess while tries are limited',
  3: 'hard to guess even with the stolen database, for a while',
  4: 'very hard to guess even with the stolen database',
};

/**
 * What a change does, sentence by sentence, told before it is made.
 * @param ending whose sessions would end, because they were last used too long ago
 */
export function securityChangeWords(
  before: SecurityFacts,
  after: SecurityFacts,
  ending: { sessions: number; people: number },
): string[] {
  const words: string[] = [];
  if (before.sessionDays !== after.sessionDays)
    words.push(`Whoever does nothing for ${countOf(after.sessionDays, 'day')} has to sign in again.`);
  if (after.sessionDays < before.sessionDays)
    words.push(
      ending.sessions === 0
        ? 'Nobody is signed out now.'
        : `${countOf(ending.sessions, 'session')} of ${countOf(ending.people, 'person', 'people')} ${ending.sessions === 1 ? 'ends' : 'end'} now.`,
    );
  if (before.leastStrength !== after.leastStrength)
    words.push(
      `A new password is ${STRENGTH_WORDS[after.leastStrength]}. Those that people have stay until they change them.`,
    );
  return words;
}

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
