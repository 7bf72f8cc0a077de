import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Events } from './events/events.js';
import { grouped } from './grouped.js';
import { Housekeeping } from './housekeeping.js';
import { inGroups } from './in-groups.js';
import { Jobs, type Given } from './jobs/jobs.service.js';
import { hasMailWay, MailWays, type MailWay } from './mail-server.js';

export interface Notice {
  to: string;
  subject: string;
  text: string;
  /** The same for programs that show HTML. */
  html?: string;
  /** Who gets the answer; left out: whoever reads the office's address. */
  replyTo?: string;
  /** As whom it comes; left out: as this server. */
  senderName?: string;
  /** What they are called; left out: not known. */
  toName?: string;
  /** Files that go with it, as {@link Mail.enclose} keeps them. */
  enclosed?: string | null;
  /** What whoever runs the server reads instead of the subject, where somebody else has written that. */
  shownAs?: string;
}

type State = 'waiting' | 'sent' | 'refused' | 'given-up' | 'returned';

/** Files of mail that never went out are kept for so long. */
const ENCLOSED_MS = 30 * 86_400_000;
/** So many are handed to the mail server side by side (common practice, no source). */
const AT_ONCE = 5;
/** So many are taken up together. */
const TAKEN_UP = 25;
/**
 * Of a group it is noted at once that it is being sent, and how that ended; while one is noted, another is sent. What is
 * not begun in time is left to later: before the queue holds this process dead.
 */
const TAKING_UP = { size: AT_ONCE, lanes: 2, beganWithinMs: 30_000 } as const;

/** Mails that have to be tried again, and why. */
type Failed = Map<string, unknown>;

interface MailJob {
  mailId: string;
  to: string;
  /** For whoever runs the server. */
  subject: string;
}

interface Kept {
  id: string;
  recipient: string;
  recipientName: string;
  subject: string;
  body: string;
  state: State;
  html: string | null;
  replyTo: string | null;
  senderName: string | null;
  enclosed: string | null;
  perhapsTwice: boolean;
}

/** A mail that did not arrive. */
export interface Lost {
  mailId: string;
  /** What the mail server, theirs or the way to it, said. */
  words: string;
}

/** A file that goes with a mail. */
export interface Enclosure {
  name: string;
  content: Buffer;
}

/**
 * Mail, handed in with the transaction that causes it and sent by the queue: until the mail server has taken it, or
 * refused it for good (RFC 5321 §4.2.1: a reply that begins with 5), or was tried for hours. How it ended is kept, in
 * the server's words.
 */
@Injectable()
export class Mail implements OnApplicationShutdown {
  private readonly ways: MailWays;
  private readonly whenLost: ((tx: EntityManager, lost: Lost) => Promise<void>)[] = [];

  constructor(
    @Inject(CONFIG) private readonly config: Config,
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly jobs: Jobs,
    housekeeping: Housekeeping,
  ) {
    this.ways = new MailWays(db.manager, config, AT_ONCE);
    jobs.defineMany<MailJob>(
      'mail',
      ({ to, subject }) => `Mail to ${to}: ${subject}`,
      (given) => this.sendAll(given),
      { atOnce: TAKEN_UP },
    );
    housekeeping.add('files of mail that never went out', () => this.tidy());
  }

  onApplicationShutdown(): void {
    this.ways.close();
  }

  /** Whether there is anybody to hand mail to. */
  canSend(m: EntityManager): Promise<boolean> {
    return hasMailWay(m, this.config);
  }

  /**
   * Hands a notice in. Without a mail server there is nobody to hand it to, and nothing is kept.
   * @returns what it is known by; null: it is not
   */
  async handIn(tx: EntityManager, { to, toName = '', ...message }: Notice): Promise<string | null> {
    const ids = await this.handInAll(tx, message, [{ to, toName }]);
    return ids?.[0] ?? null;
  }

  /** The same for many, each by themselves. @returns what each mail is known by, in their order; null: there is nobody to hand it to */
  async handInAll(
    tx: EntityManager,
    { subject, text, ...more }: Omit<Notice, 'to' | 'toName'>,
    people: readonly { to: string; toName: string }[],
  ): Promise<string[] | null> {
    if (!(await hasMailWay(tx, this.config))) return null;
    const { html = null, replyTo = null, senderName = null, shownAs = null, enclosed = null } = more;
    const mails = people.map((person) => ({ ...person, mailId: uuidv7() }));
    await tx.query(
      `INSERT INTO mail (id, recipient, recipient_name, subject, body, created_at, html, reply_to, sender_name,
          shown_as, enclosed)
        SELECT each.*, $4, $5, $6, $7, $8, $9, $10, $11 FROM unnest($1::uuid[], $2::text[], $3::text[]) AS each`,
      [
        ...[mails.map((m) => m.mailId), mails.map((m) => m.to), mails.map((m) => m.toName)],
        ...[subject, text, this.clock.date(), html, replyTo, senderName, shownAs, enclosed],
      ],
    );
    const jobs = mails.map(({ mailId, to }) => ({ data: { mailId, to, subject: shownAs ?? subject }, key: mailId }));
    await this.jobs.handInAll(tx, 'mail', jobs);
    return mails.map((m) => m.mailId);
  }

  /** Has something done within the transaction that notes that a mail did not arrive. */
  onLost(tell: (tx: EntityManager, lost: Lost) => Promise<void>): void {
    this.whenLost.push(tell);
  }

  /** Keeps files that go with mail, until all of it is sent. @returns what they are named by */
  async enclose(tx: EntityManager, files: readonly Enclosure[]): Promise<string> {
    const enclosed = uuidv7();
    for (const [position, { name, content }] of files.entries())
      await tx.query('INSERT INTO mail_enclosure (enclosed, position, name, content) VALUES ($1, $2, $3, $4)', [
        ...[enclosed, position, name, content],
      ]);
    return enclosed;
  }

  /**
   * A mail that was taken has come back: its recipient never saw it.
   * @returns false: there is none such, or it had come back already
   */
  async returned(tx: EntityManager, mailId: string, words: string): Promise<boolean> {
    const [, count] = (await tx.query(
      `UPDATE mail SET state = 'returned', answer = $2, ended_at = $3 WHERE id = $1 AND state = 'sent'`,
      [mailId, words.slice(0, 500), this.clock.date()],
    )) as [unknown, number];
    if (count === 0) return false;
    await this.events.tell(tx, { topic: 'task', id: mailId });
    for (const tell of this.whenLost) await tell(tx, { mailId, words });
    return true;
  }

  /** Hands mail in anew that was refused or given up. @returns false when there is none such */
  again(mailId: string): Promise<boolean> {
    return this.events.change(async (tx) => {
      const [rows] = (await tx.query(
        `UPDATE mail SET state = 'waiting', ended_at = NULL WHERE id = $1 AND state IN ('refused', 'given-up')
            AND (enclosed IS NULL OR EXISTS (SELECT 1 FROM mail_enclosure e WHERE e.enclosed = mail.enclosed))
          RETURNING recipient AS "to", coalesce(shown_as, subject) AS subject`,
        [mailId],
      )) as [{ to: string; subject: string }[], number];
      const [mail] = rows;
      if (mail) await this.jobs.handIn(tx, 'mail', { mailId, ...mail }, { key: mailId });
      return mail !== undefined;
    });
  }

  /** Sends what has been handed in without waiting for the queue to be looked at. */
  hurry(): void {
    this.jobs.hurry('mail');
  }

  /** Sends what was taken up together, group by group. */
  private async sendAll(given: Given<MailJob>[]): Promise<PromiseSettledResult<void>[]> {
    const way = await this.ways.way();
    if (!way) return given.map(() => DONE);
    const failed: Failed = new Map();
    const left = await inGroups(given, TAKING_UP, (group) => this.sendGroup(way, group, failed));
    if (left.length > 0) await this.putBack(left);
    return given.map(({ data: { mailId } }) =>
      failed.has(mailId) ? { status: 'rejected', reason: failed.get(mailId) } : DONE,
    );
  }

  /** @param failed is told which have to be tried again, and why */
  private async sendGroup(way: MailWay, group: Given<MailJob>[], failed: Failed): Promise<void> {
    try {
      const mailIds = group.map(({ data }) => data.mailId);
      const files = await this.filesOf(mailIds);
      const begun = await this.begin(mailIds);
      const sendings = begun.map(async (mail): Promise<Ended> => {
        const ended = await handOver(way, mail, files.get(mail.enclosed ?? '') ?? []);
        if (ended.error === null || ended.state === 'refused') return ended;
        failed.set(mail.id, ended.error);
        const isLast = group.some(({ data, attempt }) => data.mailId === mail.id && attempt.last);
        return isLast ? { ...ended, state: 'given-up' } : ended;
      });
      await this.noteAll(await Promise.all(sendings), failed);
    } catch (error) {
      for (const { data } of group) failed.set(data.mailId, error);
    }
  }

  /** Notes how mails ended: together, and one by one where that cannot be, so that one holds up no other. */
  private async noteAll(all: readonly Ended[], failed: Failed): Promise<void> {
    try {
      await this.note(all);
    } catch {
      for (const ended of all)
        // How it ended is not known then: it is tried again, and it is said that it may be twice.
        await this.note([ended]).catch((error: unknown) => failed.set(ended.mail.id, error));
    }
  }

  /** Notes of mails that they are being sent. @returns them, but for those that were sent by somebody who died before the queue was told */
  private async begin(mailIds: readonly string[]): Promise<Kept[]> {
    const [mails] = (await this.db.query(
      // A try of a server that was stopped in the middle: nobody knows how it ended.
      `UPDATE mail SET began = true, perhaps_twice = perhaps_twice OR began
        WHERE id = ANY($1) AND state NOT IN ('sent', 'returned')
        RETURNING id, recipient, recipient_name AS "recipientName", subject, body, html, reply_to AS "replyTo",
                  sender_name AS "senderName", enclosed, perhaps_twice AS "perhapsTwice"`,
      [mailIds],
    )) as [Kept[], number];
    return mails;
  }

  /** Files that go with mails, by what they are named by. */
  private async filesOf(mailIds: readonly string[]): Promise<Map<string, Enclosure[]>> {
    const rows = await this.db.query<(Enclosure & { enclosed: string })[]>(
      `SELECT enclosed, name, content FROM mail_enclosure
        WHERE enclosed IN (SELECT enclosed FROM mail WHERE id = ANY($1)) ORDER BY enclosed, position`,
      [mailIds],
    );
    return grouped(rows, (row) => row.enclosed);
  }

  /** Hands in anew what a slow mail server left no time for: no try of it was made. */
  private async putBack(given: readonly Given<MailJob>[]): Promise<void> {
    const jobs = given.map(({ data }) => ({ data, key: data.mailId }));
    await this.db.transaction((tx) => this.jobs.handInAll(tx, 'mail', jobs));
  }

  private async tidy(): Promise<void> {
    await this.db.query(
      `DELETE FROM mail_enclosure e WHERE NOT EXISTS
         (SELECT 1 FROM mail m WHERE m.enclosed = e.enclosed AND m.created_at > $1)`,
      [new Date(this.clock.now() - ENCLOSED_MS)],
    );
  }

  private async note(all: readonly Ended[]): Promise<void> {
    if (all.length === 0) return;
    await this.events.change(async (tx) => {
      await tx.query(
        // What has gone out is kept by nobody but whom it was for: it may hold a link, or a code.
        `UPDATE mail SET state = e.state, tries = tries + 1, answer = e.answer, began = false, perhaps_twice = e.twice,
           body = CASE WHEN e.state = 'sent' THEN '' ELSE body END,
           html = CASE WHEN e.state = 'sent' THEN NULL ELSE html END,
           enclosed = CASE WHEN e.state = 'sent' THEN NULL ELSE enclosed END,
           ended_at = CASE WHEN e.state = 'waiting' THEN NULL ELSE $5::timestamptz END
          FROM unnest($1::uuid[], $2::text[], $3::text[], $4::boolean[]) AS e (id, state, answer, twice)
         WHERE mail.id = e.id`,
        [
          ...[all.map((e) => e.mail.id), all.map((e) => e.state), all.map((e) => e.answer.slice(0, 500))],
          ...[all.map((e) => e.twice), this.clock.date()],
        ],
      );
      for (const { mail, state, answer } of all)
        if (state === 'refused' || state === 'given-up')
          for (const tell of this.whenLost) await tell(tx, { mailId: mail.id, words: answer });
      const gone = new Set(all.flatMap(({ mail, state }) => (state === 'sent' ? (mail.enclosed ?? []) : [])));
      for (const enclosed of gone) await freeEnclosed(tx, enclosed);
      await this.events.tell(tx, ...all.map(({ mail }) => ({ topic: 'task' as const, id: mail.id })));
    });
  }
}

const DONE: PromiseSettledResult<void> = { status: 'fulfilled', value: undefined };

/** Hands a mail to the mail server. */
async function handOver(way: MailWay, mail: Kept, files: readonly Enclosure[]): Promise<Ended> {
  try {
    const { response } = (await way.transport.sendMail({
      from: { name: mail.senderName ?? 'Lockfast Quay', address: way.sender },
      // As an object: what is in it is one address, however it reads.
      to: { name: mail.recipientName, address: mail.recipient },
      attachments: files.map(({ name, content }) => ({ filename: name, content })),
      subject: mail.subject,
      text: mail.body,
      ...(mail.html !== null && { html: mail.html }),
      ...(mail.replyTo !== null && { replyTo: { name: '', address: mail.replyTo } }),
      // The same on every try: whoever gets it twice can tell.
      messageId: `<${mail.id}@${way.sender.split('@').at(-1)}>`,
    })) as { response: string };
    return { mail, state: 'sent', answer: response, twice: mail.perhapsTwice, error: null };
  } catch (error) {
    const { responseCode, response, message } = error as SmtpFault;
    const isRefused = responseCode !== undefined && responseCode >= 500;
    // All of it may have arrived, only not the answer (RFC 1047).
    const twice = mail.perhapsTwice || (responseCode === undefined && BROKE_OFF.test(message));
    return { mail, state: isRefused ? 'refused' : 'waiting', answer: response ?? message, twice, error };
  }
}

/** Files that all who were to get them have got. */
async function freeEnclosed(tx: EntityManager, enclosed: string): Promise<void> {
  await tx.query(
    `DELETE FROM mail_enclosure WHERE enclosed = $1 AND NOT EXISTS (SELECT 1 FROM mail WHERE enclosed = $1)`,
    [enclosed],
  );
}

/** How a try ended. */
interface Ended {
  mail: Kept;
  state: State;
  answer: string;
  twice: boolean;
  /** Null: it was taken. */
  error: unknown;
}

interface SmtpFault {
  responseCode?: number;
  response?: string;
  message: string;
}

/** How the library says that a connection ended which stood already; at which command it does not say. */
const BROKE_OFF = /closed unexpectedly|after connection was closed|^Timeout$|ECONNRESET|EPIPE/;
