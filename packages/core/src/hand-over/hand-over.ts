import { momentInWords, type Instant } from '../text/when.js';
import type { MessageTemplate } from './message.js';
import { SHARE_LEVEL_WORDS, type ShareLevel } from '../share/may.js';
import type { Window } from '../window/window.js';

/** By which way something reached its recipient. */
export const HAND_OVER_CHANNELS = ['mail', 'own-mail', 'copied', 'text', 'telephone', 'paper', 'in-person'] as const;
export type HandOverChannel = (typeof HAND_OVER_CHANNELS)[number];
/** What was handed over. */
export const HANDED_OVER = ['link', 'password'] as const;
export type HandedOver = (typeof HANDED_OVER)[number];

export const HAND_OVER_CHANNEL_WORDS: Record<HandOverChannel, string> = {
  mail: 'by mail',
  'own-mail': 'by my own mail program',
  copied: 'copied',
  text: 'by text message',
  telephone: 'by telephone',
  paper: 'on paper',
  'in-person': 'in person',
};

/** Recipients of one sending, and what one person sends in an hour. */
export const MOST_MESSAGES_AT_ONCE = 100;
export const HAND_OVERS_PER_HOUR = 500;

/** What a message begins with, as long as nobody writes another. */
export const DEFAULT_MESSAGE: MessageTemplate = {
  subject: '{{title}}',
  text: `Hello,

{{sender}} has files for you: {{title}}.

{{link}}

Open {{opens}}, {{closes}}. {{password-note}}

{{items}}`,
};

/** What of a share mattered to whoever got its link. */
export interface ToldFacts {
  window: Window;
  /** As its link begins. */
  address: string;
  level: ShareLevel;
  /** What changes with the password; null: there is none. */
  password: string | null;
}

/** What is not true any more of what was handed over, each as words; none: all is as it was. */
export function outdatedWords(what: HandedOver, told: ToldFacts, is: ToldFacts, now: Instant, zone: string): string[] {
  if (what === 'password') return told.password === is.password ? [] : ['another password'];
  const moment = (at: Instant | null, none: string) => (at === null ? none : momentInWords(at, now, zone));
  const { window: was } = told;
  return [
    told.address !== is.address && 'another address',
    was.closesAt !== is.window.closesAt &&
      (is.window.closesAt === null ? 'open without end' : `open until ${moment(is.window.closesAt, '')}`),
    was.opensAt !== is.window.opensAt && `opens ${moment(is.window.opensAt, 'at once')}`,
    told.level !== is.level && `now: ${SHARE_LEVEL_WORDS[is.level]}`,
    (told.password === null) !== (is.password === null) && (is.password === null ? 'no password' : 'with a password'),
  ].filter((words) => words !== false);
}

/** Of a message: when it opens and closes, as they stand in the middle of a sentence. */
export const windowWords = ({ opensAt, closesAt }: Window, now: Instant, zone: string) => ({
  opens: opensAt === null || opensAt <= now ? 'now' : `from ${momentInWords(opensAt, now, zone)}`,
  closes: closesAt === null ? 'without an end' : `until ${momentInWords(closesAt, now, zone)}`,
});

/** Names of items, one on each line, and how many more there are. */
export function itemLines(names: readonly string[], most = 20): string {
  const shown = names.slice(0, most);
  const more = names.length - shown.length;
  return [...shown, ...(more > 0 ? [`and ${more} more`] : [])].join('\n');
}

/** Whether link and password went the same way to the same recipient: then one look at it opens all. */
export function wentTheSameWay(
  rows: readonly { what: HandedOver; channel: HandOverChannel; recipient: string }[],
  next: { what: HandedOver; channel: HandOverChannel; recipient: string },
): boolean {
  const way = (channel: HandOverChannel) => (channel === 'own-mail' ? 'mail' : channel);
  return rows.some(
    (row) =>
      row.what !== next.what &&
      way(row.channel) === way(next.channel) &&
      row.recipient !== '' &&
      row.recipient === next.recipient,
  );
}
