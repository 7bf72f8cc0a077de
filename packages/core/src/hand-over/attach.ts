import { countOf, formatSize } from '../text/size.js';

/** What mail servers of others commonly take, in all (common practice, no source). */
export const COMMON_MAIL_LIMIT_BYTES = 20_000_000;
/** Lines of base64 hold so many characters at the most, and end with CRLF (RFC 2045, 6.8). */
const LINE = 76;

/** How many bytes a file takes as an attachment: base64 with its line ends (RFC 2045, 6.8). */
export function attachedBytes(sizeBytes: number): number {
  const characters = Math.ceil(sizeBytes / 3) * 4;
  return characters + 2 * Math.ceil(characters / LINE);
}

export interface AttachFacts {
  /** Of each file. */
  sizes: readonly number[];
  recipients: number;
  /** What the office's own mail server takes; null: it does not say. */
  limitBytes: number | null;
  /** How fast the office sends, in Mbit/s; null: not known. */
  uploadMbit: number | null;
}

export interface AttachAdvice {
  /** In one message. */
  messageBytes: number;
  /** What leaves the office for all recipients. */
  allBytes: number;
  /** How long that takes, in seconds; null: not known. */
  seconds: number | null;
  can: boolean;
  words: string;
}

/** Whether files are better attached than sent as a link, with the numbers that say so. */
export function attachAdvice({ sizes, recipients, limitBytes, uploadMbit }: AttachFacts): AttachAdvice {
  const messageBytes = sizes.reduce((sum, size) => sum + attachedBytes(size), 0);
  const allBytes = messageBytes * Math.max(1, recipients);
  const seconds = uploadMbit === null ? null : Math.ceil((allBytes * 8) / (uploadMbit * 1_000_000));
  const limit = limitBytes ?? COMMON_MAIL_LIMIT_BYTES;
  const can = sizes.length > 0 && messageBytes <= limit;
  const whose = limitBytes === null ? 'mail servers commonly take' : 'your mail server takes';
  const size = `As an attachment it is ${formatSize(messageBytes)} (a third more than ${formatSize(sum(sizes))})`;
  const times = recipients > 1 ? `, ${formatSize(allBytes)} for ${countOf(recipients, 'recipient')}` : '';
  const speed = seconds !== null && seconds > 5 ? `, some ${duration(seconds)} of your line` : '';
  if (sizes.length === 0) return { messageBytes, allBytes, seconds, can, words: 'There is no file to attach.' };
  const verdict = can
    ? messageBytes > limit / 2
      ? `. ${formatSize(limit)} is what ${whose}: some may refuse it. A link does not mind.`
      : ', and arrives with nearly everybody. A link can be ended, and says who came.'
    : `. That is more than ${whose} (${formatSize(limit)}): send the link.`;
  return { messageBytes, allBytes, seconds, can, words: size + times + speed + verdict };
}

const sum = (sizes: readonly number[]): number => sizes.reduce((all, size) => all + size, 0);

const duration = (seconds: number): string =>
  seconds < 90 ? countOf(seconds, 'second') : countOf(Math.round(seconds / 60), 'minute');
