import { readDeliveryStatus, statusWords, type DeliveryStatus } from '@quay/core';
import { ImapFlow, type MessageStructureObject } from 'imapflow';
import { simpleParser, type Attachment } from 'mailparser';
import type { Mailbox } from './mail-returns.queries.js';

const TIMEOUT_MS = 20_000;
/** Reports are small; what is larger is none, or carries the whole of what it is about, and is read as far as this. */
const MOST_BYTES = 1_000_000;
const STATUS = 'message/delivery-status';
/** What a report says to people, as far as it is told. */
const MOST_SAID_LINES = 4;
const MOST_SAID = 300;
/** Messages that are looked at in one go. */
const MOST_MESSAGES = 200;

/** A mail that came back. */
export interface Returned {
  /** As this server numbered it; from its Message-ID. */
  mailId: string;
  words: string;
}

/** What was found in a mailbox, up to which message. */
export interface Found {
  returned: Returned[];
  uidValidity: bigint;
  lastUid: number;
  /** There are more. */
  more: boolean;
}

/**
 * Reads reports of mail that came back (RFC 3464), from where it was read to last. Nothing in the mailbox is changed.
 * @throws Error as the mailbox, or the way to it, says it
 */
export async function readReturns(mailbox: Mailbox): Promise<Found> {
  const client = clientFor(mailbox);
  try {
    await client.connect();
    const { uidValidity, uidNext, exists } = await client.mailboxOpen(mailbox.folder, { readOnly: true });
    // Read for the first time, or numbered anew: what is there was there before.
    if (mailbox.uidValidity !== uidValidity)
      return { returned: [], uidValidity, lastUid: Math.max(0, uidNext - 1), more: false };
    const found: Found = { returned: [], uidValidity, lastUid: mailbox.lastUid, more: false };
    if (exists === 0 || uidNext - 1 <= mailbox.lastUid) return found;
    const uids = (await client.search({ uid: `${mailbox.lastUid + 1}:*` }, { uid: true })) || [];
    // "n:*" names the last message also where it is before n (RFC 9051, 9).
    const fresh = uids.filter((uid) => uid > mailbox.lastUid).sort((a, b) => a - b);
    for (const uid of fresh.slice(0, MOST_MESSAGES)) {
      found.returned.push(...(await reportsIn(client, uid)));
      found.lastUid = uid;
    }
    return { ...found, more: fresh.length > MOST_MESSAGES };
  } finally {
    client.close();
  }
}

/** Signs in and opens the folder, and does nothing more. @throws Error as the mailbox says it */
export async function tryMailbox(mailbox: Mailbox): Promise<void> {
  const client = clientFor(mailbox);
  try {
    await client.connect();
    await client.mailboxOpen(mailbox.folder, { readOnly: true });
  } finally {
    client.close();
  }
}

function clientFor({ host, port, encryption, user, password }: Mailbox): ImapFlow {
  const client = new ImapFlow({
    ...{ host, port, secure: encryption === 'tls', doSTARTTLS: encryption === 'starttls', logger: false },
    ...{ connectionTimeout: TIMEOUT_MS, greetingTimeout: TIMEOUT_MS, socketTimeout: TIMEOUT_MS },
    auth: { user, pass: password },
  });
  // What goes wrong is told by what was asked for; without this it would end the process.
  client.on('error', () => undefined);
  return client;
}

/** Only what has a part for programs is read: letters to people in the same mailbox are nobody's business. */
async function reportsIn(client: ImapFlow, uid: number): Promise<Returned[]> {
  const seen = await client.fetchOne(String(uid), { bodyStructure: true }, { uid: true });
  if (!seen || !seen.bodyStructure || !hasStatus(seen.bodyStructure)) return [];
  const message = await client.fetchOne(String(uid), { source: { start: 0, maxLength: MOST_BYTES } }, { uid: true });
  if (!message || !message.source) return [];
  const parsed = await simpleParser(message.source, {
    skipHtmlToText: true,
    skipTextToHtml: true,
    keepDeliveryStatus: true,
  }).catch(() => null);
  const status = parsed?.attachments.find((part) => part.contentType === STATUS);
  const original = parsed?.attachments.find((part) => ORIGINAL.includes(part.contentType));
  if (!status || !original) return [];
  const mailId = mailIdIn(original);
  if (mailId === null) return [];
  return readDeliveryStatus(status.content.toString('utf8'))
    .filter(({ action }) => action === 'failed')
    .slice(0, 1)
    .map((failed) => ({ mailId, words: wordsOf(failed, parsed?.text ?? '') }));
}

const hasStatus = ({ type, childNodes = [] }: MessageStructureObject): boolean =>
  type === STATUS || childNodes.some(hasStatus);

/** The message that came back, or its headers (RFC 3462). */
const ORIGINAL = ['message/rfc822', 'text/rfc822-headers', 'message/rfc822-headers', 'message/global'];
const MESSAGE_ID = /^message-id:\s*<([0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12})@/im;

function mailIdIn({ content }: Attachment): string | null {
  const headers = content.toString('latin1').split(/\r?\n\r?\n/, 1)[0] ?? '';
  return MESSAGE_ID.exec(headers)?.[1] ?? null;
}

function wordsOf({ recipient, status, words }: DeliveryStatus, text: string): string {
  const said = words || saidAbout(recipient, text) || `their mail server says ${status || 'not why'}.`;
  return [statusWords(status), 'It came back:', said].filter(Boolean).join(' ');
}

/** Some say why only to people: in the lines below the address. */
function saidAbout(recipient: string, text: string): string {
  const lines = text.split(/\r?\n/).map((line) => line.trim());
  const at = lines.findIndex((line) => line.replace(/^<|>?:?$/g, '') === recipient);
  if (at < 0) return '';
  const below = lines.slice(at + 1);
  const end = below.indexOf('');
  return below
    .slice(0, end < 0 ? MOST_SAID_LINES : Math.min(end, MOST_SAID_LINES))
    .join(' ')
    .replace(/[\p{C}\s]+/gu, ' ')
    .slice(0, MOST_SAID);
}
