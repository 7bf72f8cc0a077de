/** What a server says of one recipient of a message that it took earlier (RFC 3464, 2.3). */
export interface DeliveryStatus {
  /** The address that the message was for, as it was given; empty: not said. */
  recipient: string;
  action: 'failed' | 'delayed' | 'delivered' | 'relayed' | 'expanded';
  /** "5.1.1" (RFC 3463). */
  status: string;
  /** What the server that would not take it said; empty: it is not told. */
  words: string;
}

/** With what some servers write instead (as reports of theirs show). */
const ACTIONS: Record<string, DeliveryStatus['action']> = {
  ...{ failed: 'failed', failure: 'failed', error: 'failed', delayed: 'delayed' },
  ...{ delivered: 'delivered', relayed: 'relayed', expanded: 'expanded' },
};
const known = (action: string) => (Object.hasOwn(ACTIONS, action) ? ACTIONS[action] : undefined);
const MOST_RECIPIENTS = 500;
const MOST_WORDS = 400;

/**
 * Reads the part of a report that is for programs (`message/delivery-status`, RFC 3464): a group of fields for the
 * message, then one for each recipient.
 */
export function readDeliveryStatus(text: string): DeliveryStatus[] {
  return text
    .replace(/\r\n?/g, '\n')
    .split(/\n[ \t]*\n/)
    .slice(0, MOST_RECIPIENTS + 1)
    .flatMap((group): DeliveryStatus[] => {
      const fields = fieldsOf(group);
      // A remark in brackets may stand behind it.
      const action = known((fields.get('action') ?? '').toLowerCase().split(/[^a-z]/, 1)[0] ?? '');
      if (!action) return [];
      const status = /\d\.\d{1,3}\.\d{1,3}/.exec(fields.get('status') ?? '')?.[0] ?? '';
      if (!fields.has('original-recipient') && !fields.has('final-recipient')) return [];
      const recipient = addressIn(fields.get('original-recipient') ?? fields.get('final-recipient') ?? '');
      return [{ recipient, action, status, words: wordsOf(fields) }];
    });
}

/** Fields by their names in small letters; lines that begin with a space go on (RFC 5322, 2.2.3). */
function fieldsOf(group: string): Map<string, string> {
  const fields = new Map<string, string>();
  for (const line of group.replace(/\n[ \t]+/g, ' ').split('\n')) {
    const [, name, value] = /^([!-9;-~]+)[ \t]*:(.*)$/.exec(line) ?? [];
    if (name && value !== undefined && !fields.has(name.toLowerCase())) fields.set(name.toLowerCase(), value.trim());
  }
  return fields;
}

/** `rfc822; lena@mill.example`: a type, and what is of it; comments in brackets are for people (RFC 5322, 3.2.2). */
const typed = (value: string): string => value.replace(/^[^;]*;/, '').trim();
const addressIn = (value: string): string =>
  typed(value)
    .replace(/\([^()]*\)/g, '')
    .trim()
    .replace(/^<|>$/g, '');

function wordsOf(fields: Map<string, string>): string {
  const said = typed(fields.get('diagnostic-code') ?? '');
  return said.replace(/[\p{C}\s]+/gu, ' ').slice(0, MOST_WORDS);
}

/** What the first numbers of a status mean to whoever sent the message (RFC 3463, 3). */
const MEANS: readonly [RegExp, string][] = [
  [/^\d\.1\.[12]$/, 'There is no such address.'],
  [/^\d\.1\.10$/, 'That address takes no mail.'],
  [/^\d\.2\.1$/, 'The mailbox is closed.'],
  [/^\d\.2\.2$/, 'The mailbox is full.'],
  [/^\d\.[23]\.4$|^\d\.2\.3$/, 'The message is too large for them.'],
  [/^\d\.4\./, 'Their mail server could not be reached.'],
  [/^\d\.7\./, 'Their mail server does not let it in.'],
];

/** The meaning of a status in words; empty: none that would help. */
export const statusWords = (status: string): string => MEANS.find(([of]) => of.test(status))?.[1] ?? '';
