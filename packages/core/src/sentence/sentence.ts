import { audienceWords, type AudienceTerms } from '../share/audience.js';
import { mayWords, type ShareMay } from '../share/may.js';
import { countOf, formatSize } from '../text/size.js';
import { momentInWords, type Instant } from '../text/when.js';
import type { Window } from '../window/window.js';

/** A run of the sentence; strong runs are the decisions a reader must not miss. */
export interface SentencePart {
  text: string;
  strong: boolean;
}

export interface ShareTerms {
  audience: AudienceTerms;
  may: ShareMay;
  itemCount: number;
  /** Of these, how many are as they were when they were frozen; at: when, null when at different times. */
  frozen: { count: number; at: Instant | null };
  totalBytes: number;
  window: Window;
  hasPassword: boolean;
  visitLimit: number | null;
  /** Its files go to the trash when it closes. */
  removesFiles: boolean;
}

/**
 * What a share lets happen, as one sentence: "Anyone with the link and the password can download 3 items (48.2 MB) from
 * now until Tue 8 Dec, 17:00, at most 10 visits." The same words before publishing, on the share and in the ledger.
 */
export function shareSentence(terms: ShareTerms, now: Instant, zone: string): SentencePart[] {
  const { opensAt, closesAt } = terms.window;
  const begun = opensAt === null || opensAt <= now;
  const ended = closesAt !== null && closesAt <= now;
  const parts: SentencePart[] = [];
  const say = (text: string, strong = false) => parts.push({ text, strong });

  const who = audienceWords(terms.audience);
  parts.push(...who);
  const between = who.length > 1;
  say(between ? ', with ' : ' with ');
  say(terms.hasPassword ? 'the link and the password' : 'the link', true);
  say(`${between ? ',' : ''} ${ended ? 'could' : 'can'} `);
  const { verb, but } = mayWords(terms.may);
  say(verb, true);
  for (const part of whatWords(terms, now, zone)) parts.push(part);
  const from = begun && !ended ? 'now' : opensAt === null ? null : momentInWords(opensAt, now, zone);
  if (from !== null) {
    say('from ');
    say(from, true);
  }
  say(from === null ? 'until ' : ' until ');
  say(closesAt === null ? 'somebody closes it' : momentInWords(closesAt, now, zone), true);
  if (but !== null) {
    say(', ');
    say(but, true);
  }
  if (terms.visitLimit !== null) {
    say(', at most ');
    say(countOf(terms.visitLimit, 'visit'), true);
  }
  if (terms.removesFiles && !ended) {
    say('; then ');
    say('the files go to the trash', true);
  }
  say('.');
  return parts;
}

function whatWords({ itemCount, totalBytes, frozen }: ShareTerms, now: Instant, zone: string): SentencePart[] {
  const plain = (text: string) => ({ text, strong: false });
  if (itemCount === 0) return [plain(' what is put in it ')];
  const items = `${countOf(itemCount, 'item')} (${formatSize(totalBytes)})`;
  if (frozen.count === 0) return [plain(` ${items} `)];
  const which = frozen.count === itemCount ? '' : `${frozen.count} of them `;
  const asOf = frozen.at === null ? '' : ` as of ${frozen.at >= now ? 'now' : momentInWords(frozen.at, now, zone)}`;
  return [plain(` ${items}, ${which}`), { text: `frozen${asOf}`, strong: true }, plain(', ')];
}

/** What the sentence says of items by when each was frozen; null: it is not. */
export function frozenTerms(frozenAt: readonly (Instant | null)[]): ShareTerms['frozen'] {
  const moments = frozenAt.filter((at) => at !== null);
  const isOne = new Set(moments).size === 1;
  return { count: moments.length, at: isOne ? (moments[0] ?? null) : null };
}

/** The sentence as plain text. */
export function sentenceText(parts: SentencePart[]): string {
  return parts.map((p) => p.text).join('');
}
