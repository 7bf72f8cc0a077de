import { momentInWords, type Instant } from '../text/when.js';
import { countOf } from '../text/size.js';
import type { Window } from '../window/window.js';
import { AUDIENCE_NAMES, type AudienceKind } from './audience.js';
import { mayWords, type ShareMay } from './may.js';

/** What can be changed about a share that is out. */
export interface ShareChoices {
  title: string;
  message: string;
  window: Window;
  hasPassword: boolean;
  visitLimit: number | null;
  removesFiles: boolean;
  /** As its link begins. */
  address: string;
  audience: AudienceKind;
  may: ShareMay;
}

/** What was given anew, whether or not it is another one: it is not kept so that it could be compared. */
export interface GivenAnew {
  password: boolean;
  /** Who is on the list, or among the members. */
  audience: boolean;
}

/**
 * What is different about a share, each as a run of words: "closes Fri 11 Dec, 17:00 instead of Tue 8 Dec, 17:00". The
 * password is never among them.
 */
export function shareChanges(
  before: ShareChoices,
  after: ShareChoices,
  anew: GivenAnew,
  { now, zone }: { now: Instant; zone: string },
): string[] {
  const moment = (at: Instant | null, none: string) => (at === null ? none : momentInWords(at, now, zone));
  const said = <T>(of: (share: ShareChoices) => T, words: (value: T) => string, begin: string): string | false =>
    of(before) !== of(after) && `${begin} ${words(of(after))} instead of ${words(of(before))}`.trim();
  const may = ({ may: allowed }: ShareChoices) => {
    const { verb, but } = mayWords(allowed);
    return but === null ? verb : `${verb}, ${but}`;
  };
  return [
    said(
      (s) => s.title,
      (title) => `“${title}”`,
      'title',
    ),
    before.message !== after.message && messageWords(before.message, after.message),
    said(
      (s) => s.audience,
      (kind) => AUDIENCE_NAMES[kind],
      'for',
    ) ||
      (anew.audience && 'who it is for'),
    said(may, (words) => words, 'may') || takesWords(before.may, after.may),
    said(
      (s) => s.window.opensAt,
      (at) => moment(at, 'at once'),
      'opens',
    ),
    said(
      (s) => s.window.closesAt,
      (at) => moment(at, 'when somebody closes it'),
      'closes',
    ),
    passwordWords(before.hasPassword, after.hasPassword, anew.password),
    said((s) => s.visitLimit, limitWords, ''),
    before.removesFiles !== after.removesFiles && `its files ${after.removesFiles ? 'go' : 'stay'} when it closes`,
    said(
      (s) => s.address,
      (text) => text,
      'link on',
    ),
  ].filter((words) => words !== false);
}

const limitWords = (limit: number | null): string =>
  limit === null ? 'any number of visits' : `at most ${countOf(limit, 'visit')}`;

function messageWords(before: string, after: string): string {
  if (before === '') return 'message added';
  return after === '' ? 'message taken off' : 'message';
}

function passwordWords(had: boolean, has: boolean, isAnew: boolean): string | false {
  if (had && !has) return 'password taken off';
  if (!had && has) return 'password set';
  return has && isAnew && 'new password';
}

/** What the words of what they may do leave out. */
const takesWords = (before: ShareMay, after: ShareMay): string | false =>
  before.takesBytes !== after.takesBytes && 'how much it takes in';
