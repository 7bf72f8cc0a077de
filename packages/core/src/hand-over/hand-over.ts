import { momentInWords, type Instant } from '../text/when.js';
import type { MessageTemplate, MessageValues } from './message.js';
import { SHARE_LEVEL_WORDS, type ShareLevel } from '../share/may.js';
import type { Window } from '../window/window.js';

/** By which way something reached its recipient. */
export const HAND_OVER_CHANNELS = [
  ...(['mail', 'own-mail', 'copied', 'device', 'text', 'telephone', 'paper', 'in-person'] as const),
] as const;
export type HandOverChannel = (typeof HAND_OVER_CHANNELS)[number];
/** What was handed over. */
export const HANDED_OVER = ['link', 'password', 'files', 'withdrawal'] as const;
export type HandedOver = (typeof HANDED_OVER)[number];

export const HAND_OVER_CHANNEL_WORDS: Record<HandOverChannel, string> = {
  mail: 'by mail',
  'own-mail': 'by another mail program',
  copied: 'copied',
  device: 'by another program',
  text: 'by text message',
  telephone: 'by telephone',
  paper: 'on paper',
  'in-person': 'in person',
};

/** What a mail is about: it has the link, the files themselves, or says that the share is withdrawn. */
export const MAIL_ABOUT = ['link', 'files', 'withdrawal'] as const;
export type MailAbout = (typeof MAIL_ABOUT)[number];

export const HANDED_OVER_WORDS: Record<HandedOver, string> = {
  ...{ link: 'the link', password: 'the password', files: 'the files', withdrawal: 'that it is withdrawn' },
};

/** Recipients of one sending, and what one person sends in an hour: a text message costs the office (invented). */
export const MOST_MESSAGES_AT_ONCE = 100;
export const HAND_OVERS_PER_HOUR = { mail: 500, text: 100 } as const;

/** What a message begins with, as long as nobody writes another. */
export const DEFAULT_MESSAGE: MessageTemplate = {
  subject: '{{title}}',
  text: `Hello,

{{sender}} has files for you: {{title}}.

{{link}}

Open {{opens}}, {{closes}}. {{password-note}}

{{items}}`,
};

/** What a message begins with that says that a share is withdrawn. */
export const DEFAULT_WITHDRAWAL_MESSAGE: MessageTemplate = {
  subject: '{{title}} is withdrawn',
  text: `Hello,

{{sender}} has withdrawn {{title}}: the link that you got does not work any more.`,
};

/** What a message with the files themselves begins with. */
export const DEFAULT_ATTACHED_MESSAGE: MessageTemplate = {
  subject: '{{title}}',
  text: `Hello,

{{sender}} sends you, attached:

{{items}}`,
};

/** Where the password is, in a message with the link: never in it. */
export const passwordNote = (hasPassword: boolean): string =>
  hasPassword ? 'The password comes to you by another way.' : '';

/** A text message with the link. */
export const linkText = ({ sender, title, link }: Pick<MessageValues, 'sender' | 'title' | 'link'>): string =>
  `${sender}: ${title}\n${link}`;

/** A text message with the password: whoever reads over a shoulder learns not what it opens. */
export const passwordText = (sender: string, password: string): string =>
  `The password for the link from ${sender}: ${password}`;

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
  // What they have is theirs: nothing that changes here changes it.
  if (what === 'files' || what === 'withdrawal') return [];
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

/** How something went to somebody. */
export interface Way {
  what: HandedOver;
  channel: HandOverChannel;
  recipient: string;
}

/** Channels that end in the same place: whoever reads the one reads the other. */
const PLACE: Partial<Record<HandOverChannel, string>> = { 'own-mail': 'mail', paper: 'in-person' };
const placeOf = (channel: HandOverChannel): string => PLACE[channel] ?? channel;

/** Whether link and password went the same way to the same recipient: then one look at it opens all. */
export function wentTheSameWay(rows: readonly Way[], next: Way): boolean {
  const other = { link: 'password', password: 'link', files: null, withdrawal: null }[next.what];
  // Face to face there is nobody else who could read it.
  if (placeOf(next.channel) === 'in-person') return false;
  return rows.some(
    (row) =>
      row.what === other &&
      placeOf(row.channel) === placeOf(next.channel) &&
      row.recipient !== '' &&
      row.recipient === next.recipient,
  );
}

/** What is said where that would be. */
export const sameWayWords = ({ channel, recipient }: Way): string =>
  `Link and password would both reach ${recipient} ${HAND_OVER_CHANNEL_WORDS[channel]}: whoever reads one reads the other. Take another way, or say that you mean it.`;

/** What somebody has been given of a share: the last time of each. */
export interface GivenTo<Row> {
  /** Empty: nobody in particular. */
  recipient: string;
  link: Row | null;
  password: Row | null;
  files: Row | null;
  withdrawal: Row | null;
}

/**
 * What each recipient has and has not been given.
 * @param rows the last first
 * @param expected whom a share is for by its list: those who were given nothing stand at the end
 */
export function givenToEach<Row extends Pick<Way, 'what' | 'recipient'>>(
  rows: readonly Row[],
  expected: readonly string[] = [],
): GivenTo<Row>[] {
  const each = new Map<string, GivenTo<Row>>();
  const of = (recipient: string) => {
    const given = each.get(recipient) ?? { recipient, link: null, password: null, files: null, withdrawal: null };
    each.set(recipient, given);
    return given;
  };
  for (const row of rows) of(row.recipient)[row.what] ??= row;
  for (const recipient of expected) of(recipient);
  return [...each.values()];
}

/**
 * A password as it is read back on the telephone, held against what it is.
 * @returns how many signs are right from its beginning, and whether it is the whole; capitals count, spaces do not
 */
export function readBack(password: string, heard: string): { right: number; done: boolean; wrong: boolean } {
  const [is, said] = [[...password.replace(/\s/g, '')], [...heard.replace(/\s/g, '')]];
  const first = said.findIndex((sign, i) => sign !== is[i]);
  const right = first < 0 ? said.length : first;
  return { right, done: first < 0 && right === is.length, wrong: first >= 0 };
}
