import { audienceWords, type AudienceTerms } from '../share/audience.js';
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
  itemCount: number;
  totalBytes: number;
  window: Window;
  hasPassword: boolean;
  visitLimit: number | null;
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
  say('download', true);
  say(` ${countOf(terms.itemCount, 'item')} (${formatSize(terms.totalBytes)}) `);
  const from = begun && !ended ? 'now' : opensAt === null ? null : momentInWords(opensAt, now, zone);
  if (from !== null) {
    say('from ');
    say(from, true);
  }
  say(from === null ? 'until ' : ' until ');
  say(closesAt === null ? 'somebody closes it' : momentInWords(closesAt, now, zone), true);
  if (terms.visitLimit !== null) {
    say(', at most ');
    say(countOf(terms.visitLimit, 'visit'), true);
  }
  say('.');
  return parts;
}

/** The sentence as plain text. */
export function sentenceText(parts: SentencePart[]): string {
  return parts.map((p) => p.text).join('');
}
