import type { SentencePart } from '../sentence/sentence.js';
import { audienceWords, type AudienceTerms } from '../share/audience.js';
import { countOf, formatSize } from '../text/size.js';
import { momentInWords, type Instant } from '../text/when.js';
import type { Window } from '../window/window.js';
import { kindsWords, type IntakeLimits } from './limits.js';
import { straightWords, type StraightIn } from './straight.js';

export interface IntakeTerms {
  audience: AudienceTerms;
  limits: IntakeLimits;
  window: Window;
  hasPassword: boolean;
  /** Deposits wait in the tray until somebody accepts them. */
  waits: boolean;
  /** Where they do not: what goes straight in; null: everything that is what its name says. */
  straight: StraightIn | null;
}

/**
 * What an intake lets happen: "Anyone with the link can hand in up to 20 files of at most 2 GB each from now until Fri
 * 11 Dec, 17:00; nobody sees what others handed in."
 */
export function intakeSentence(terms: IntakeTerms, now: Instant, zone: string): SentencePart[] {
  const { opensAt, closesAt } = terms.window;
  const ended = closesAt !== null && closesAt <= now;
  const begun = opensAt === null || opensAt <= now;
  const parts: SentencePart[] = [...audienceWords(terms.audience)];
  const between = parts.length > 1;
  const say = (text: string, strong = false) => parts.push({ text, strong });
  say(between ? ', with ' : ' with ');
  say(terms.hasPassword ? 'the link and the password' : 'the link', true);
  say(`${between ? ',' : ''} ${ended ? 'could' : 'can'} `);
  say('hand in', true);
  say(' up to ');
  say(countOf(terms.limits.files, 'file'), true);
  say(' of at most ');
  say(formatSize(terms.limits.fileBytes), true);
  say(terms.limits.files === 1 ? '' : ' each');
  if (terms.limits.kinds !== null) {
    say(', ');
    say(`${kindsWords(terms.limits.kinds)} only`, true);
    say(',');
  }
  if (opensAt !== null && (!begun || ended)) {
    say(' from ');
    say(momentInWords(opensAt, now, zone), true);
  }
  say(' until ');
  say(closesAt === null ? 'somebody closes it' : momentInWords(closesAt, now, zone), true);
  say('; nobody sees what others handed in');
  if (terms.waits) {
    say(', and it ');
    say('waits to be accepted', true);
  }
  if (!terms.waits && terms.straight !== null) {
    say('; only ');
    say(straightWords(terms.straight), true);
    say(' go straight in, the rest waits to be accepted');
  }
  say('.');
  return parts;
}
