import type { MailAbout } from './hand-over.js';

/** What a message to recipients is filled with. */
export const MESSAGE_PLACEHOLDERS = ['link', 'title', 'opens', 'closes', 'sender', 'items', 'password-note'] as const;
export type MessagePlaceholder = (typeof MESSAGE_PLACEHOLDERS)[number];
export type MessageValues = Record<MessagePlaceholder, string>;

/** What each stands for, for whoever writes a message. */
export const MESSAGE_PLACEHOLDER_WORDS: Record<MessagePlaceholder, string> = {
  link: 'the link',
  title: 'the title of the share',
  opens: 'when it opens',
  closes: 'when it closes',
  sender: 'who sends it',
  items: 'what is in it',
  'password-note': 'how they get the password, where there is one',
};

/** Letters of a subject and of a text. */
export const MESSAGE_LENGTH = { subject: 200, text: 10_000 } as const;

const PLACEHOLDER = /\{\{\s*([^{}]*?)\s*\}\}/g;

export type MessageFault = 'message.no-link' | 'message.unknown-placeholder' | 'message.empty';

/** A subject and a text as they are written, with placeholders. */
export interface MessageTemplate {
  subject: string;
  text: string;
}

const placeholdersIn = (text: string): string[] => [...text.matchAll(PLACEHOLDER)].map((found) => found[1] ?? '');
const isKnown = (name: string): name is MessagePlaceholder =>
  (MESSAGE_PLACEHOLDERS as readonly string[]).includes(name);

/**
 * Why a message cannot be sent as it is written, at which of its fields; null: it can.
 * Only one that is about the link needs it.
 */
export function messageFault(
  { subject, text }: MessageTemplate,
  { about = 'link' }: { about?: MailAbout } = {},
): { field: keyof MessageTemplate; code: MessageFault; words: string } | null {
  for (const [field, words] of [
    ['subject', subject],
    ['text', text],
  ] as const) {
    if (words.trim() === '') return { field, code: 'message.empty', words: 'Something must be written here.' };
    const unknown = placeholdersIn(words).find((name) => !isKnown(name));
    if (unknown !== undefined)
      return {
        ...{ field, code: 'message.unknown-placeholder' },
        words: `{{${unknown}}} is none that is filled in: there are {{${MESSAGE_PLACEHOLDERS.join('}}, {{')}}}.`,
      };
  }
  if (about === 'link' && !hasLink({ text }))
    return {
      field: 'text',
      code: 'message.no-link',
      words: 'The text has no {{link}}: nobody could open anything by it.',
    };
  return null;
}

/** Whether whoever gets a text gets the link by it. */
export const hasLink = ({ text }: Pick<MessageTemplate, 'text'>): boolean => placeholdersIn(text).includes('link');

/** The subject as one line: no value can begin another header (RFC 5322, 2.2). */
export const messageSubject = ({ subject }: MessageTemplate, values: MessageValues): string =>
  filled(subject, (name) => values[name])
    .replace(/[\p{Cc}\u2028\u2029]+/gu, ' ')
    .replace(/ {2,}/g, ' ')
    .trim();

/** The text as it is read without HTML, with lines that end in LF. */
export const messageText = ({ text }: MessageTemplate, values: MessageValues): string =>
  `${lines(filled(text, (name) => values[name]))
    .join('\n')
    .replace(/\n{3,}/g, '\n\n')
    .trim()}\n`;

/**
 * The same as HTML: paragraphs at empty lines, the link as a link, everything else as text. Nothing is loaded from
 * anywhere.
 * @param office whose mail it is, below all
 */
export function messageHtml({ text }: MessageTemplate, values: MessageValues, office: string): string {
  const paragraphs = lines(text)
    .join('\n')
    .split(/\n\s*\n/)
    .map((paragraph) => inline(paragraph.trim(), values))
    .filter((html) => html !== '');
  const body = paragraphs.map((html) => `<p style="margin:0 0 16px">${html}</p>`).join('\n');
  return [
    '<!doctype html>',
    '<html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"></head>',
    '<body style="margin:0;padding:24px;background:#faf9f4;color:#1b2a29;font:16px/1.5 sans-serif">',
    `<div style="max-width:36em">\n${body}`,
    `<p style="margin:24px 0 0;padding-top:12px;border-top:2px solid #1b2a29;color:#5d6664">${escaped(office)}</p>`,
    '</div></body></html>\n',
  ].join('\n');
}

/** A paragraph; a value of several lines has as many. */
function inline(paragraph: string, values: MessageValues): string {
  let html = '';
  let from = 0;
  for (const found of paragraph.matchAll(PLACEHOLDER)) {
    html += escaped(paragraph.slice(from, found.index)) + htmlOf(found[1] ?? '', found[0], values);
    from = found.index + found[0].length;
  }
  return (html + escaped(paragraph.slice(from))).replaceAll('\n', '<br>\n');
}

function htmlOf(name: string, written: string, values: MessageValues): string {
  if (!isKnown(name)) return escaped(written);
  const value = escaped(lines(values[name]).join('\n'));
  return name === 'link' ? `<a href="${value}" style="color:#0f5a5e;overflow-wrap:anywhere">${value}</a>` : value;
}

const filled = (text: string, value: (name: MessagePlaceholder) => string): string =>
  text.replace(PLACEHOLDER, (written, name: string) => (isKnown(name) ? value(name) : written));

const lines = (text: string): string[] => text.replace(/\r\n?/g, '\n').split('\n');

const ENTITIES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' };
const escaped = (text: string): string => text.replace(/[&<>"']/g, (sign) => ENTITIES[sign] as string);

/**
 * A message for the sender's own mail program (RFC 6068): recipients, subject and text in one address, lines ended by
 * CRLF.
 */
export function mailtoLink(to: readonly string[], subject: string, text: string): string {
  const recipients = to.map((address) => encodeURIComponent(address).replaceAll('%40', '@')).join(',');
  const body = lines(text).join('\r\n');
  return `mailto:${recipients}?subject=${encodeURIComponent(subject)}&body=${encodeURIComponent(body)}`;
}
