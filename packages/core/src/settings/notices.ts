import type { Duty } from '../access/duty.js';
import { shownIn } from '../text/zone.js';

/** What somebody is told of by mail, if they want it; what concerns their sign-in they are always told. */
export const NOTICES = [
  'share-closing',
  'share-opened',
  'share-taken',
  'share-brought',
  'share-used-up',
  'share-tried',
  'share-barred',
  'mail-returned',
  'handed-in',
  'server',
] as const;
export type NoticeKind = (typeof NOTICES)[number];

export const NOTICE_WORDS: Record<NoticeKind, string> = {
  'share-closing': 'A day before a share of yours closes',
  'share-opened': 'When a share of yours is opened for the first time',
  'share-taken': 'When somebody takes something from a share of yours',
  'share-brought': 'When somebody brings files into a share of yours',
  'share-used-up': 'When the last visit of a share of yours is used',
  'share-tried': 'When somebody was refused at a share of yours, hour by hour',
  'share-barred': 'When a rule of the office closes a share of yours',
  'mail-returned': 'When a link that you sent does not arrive',
  'handed-in': 'When something is handed in at an intake of yours',
  server: 'In the morning, when something on the server needs a look',
};

const DUTY_OF: Record<NoticeKind, Duty> = {
  'share-closing': 'publish-outside',
  'share-opened': 'publish-outside',
  'share-taken': 'publish-outside',
  'share-brought': 'publish-outside',
  'share-used-up': 'publish-outside',
  'share-tried': 'publish-outside',
  'share-barred': 'publish-outside',
  'mail-returned': 'publish-outside',
  'handed-in': 'ask-outside',
  server: 'run-server',
};

/** What somebody with these duties can be told of. */
export const noticesFor = (duties: readonly Duty[]): NoticeKind[] =>
  NOTICES.filter((kind) => duties.includes(DUTY_OF[kind]));

/** Whether it can wait for the one mail of the day. That a share closes cannot, and the server's is one. */
export const canWait = (kind: NoticeKind): boolean =>
  !['server', 'share-closing', 'share-barred', 'mail-returned'].includes(kind);

/** How long before a share closes its publisher is told. */
export const CLOSING_NOTICE_MS = 24 * 3_600_000;

const MORNING = 7;

/**
 * Whether the notice of the morning is to go out: once a day of the office, from seven o'clock on, also late.
 * @param lastDay the day of the last one, as in 2026-11-27; null: there was none
 */
export function morningIsDue(at: number, zone: string, lastDay: string | null): boolean {
  const shown = new Date(shownIn(zone, at));
  return shown.getUTCHours() >= MORNING && dayIn(zone, at) !== lastDay;
}

/** The day that the calendar of a zone shows, as in 2026-11-27. */
export const dayIn = (zone: string, at: number): string => new Date(shownIn(zone, at)).toISOString().slice(0, 10);
