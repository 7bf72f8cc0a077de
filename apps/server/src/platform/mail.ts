import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Events } from './events/events.js';
import { Housekeeping } from './housekeeping.js';
import { Jobs, type Try } from './jobs/jobs.service.js';
import { hasMailWay, MailWays } from './mail-server.js';

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

interface Kept {
  recipient: string;
  recipientName: string;
  subject: string;
  body: string;
  state: State;
  html: string | null;
  replyTo: string | null;
  senderName: string | null;
  enclosed: string | null;
  began: boolean;
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
    jobs.define<{ mailId: string; to: string; subject: string }>(
      'mail',
      ({ to, subject }) => `Mail to ${to}: ${subject}`,
      ({ mailId }, attempt) => this.send(mailId, attempt),
      { atOnce: AT_ONCE },
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
  async handIn(tx: EntityManager, { to, subject, text, ...more }: Notice): Promise<string | null> {
    if (!(await hasMailWay(tx, this.config))) return null;
    const mailId = uuidv7();
    const { html = null, replyTo = null, senderName = null, shownAs = null, toName = '', enclosed = null } = more;
    await tx.query(
      `INSERT INTO mail (id, recipient, subject, body, created_at, html, reply_to, sender_name, shown_as,
          recipient_name, enclosed)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
      [mailId, to, subject, text, this.clock.date(), html, replyTo, senderName, shownAs, toName, enclosed],
    );
    await this.jobs.handIn(tx, 'mail', { mailId, to, subject: shownAs ?? subject }, { key: mailId });
    return mailId;
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

  private async send(mailId: string, { last }: Try): Promise<void> {
    const [mail] = await this.db.query<Kept[]>(
      `SELECT recipient, recipient_name AS "recipientName", subject, body, state, html, reply_to AS "replyTo",
              sender_name AS "senderName", enclosed, began, perhaps_twice AS "perhapsTwice"
         FROM mail WHERE id = $1`,
      [mailId],
    );
    // Sent by somebody who died before the queue was told.
    if (!mail || mail.state === 'sent' || mail.state === 'returned') return;
    const way = await this.ways.way();
    if (!way) return;
    const attachments = mail.enclosed === null ? [] : await this.enclosedIn(mail.enclosed);
    // A try of a server that was stopped in the middle: nobody knows how it ended.
    let twice = mail.perhapsTwice || mail.began;
    await this.db.query('UPDATE mail SET began = true, perhaps_twice = $2 WHERE id = $1', [mailId, twice]);
    const note = (state: State, answer: string) => this.note(mailId, { state, answer, twice, enclosed: mail.enclosed });
    try {
      const { response } = (await way.transport.sendMail({
        from: { name: mail.senderName ?? 'Lockfast Quay', address: way.sender },
        // As an object: what is in it is one address, however it reads.
        to: { name: mail.recipientName, address: mail.recipient },
        attachments: attachments.map(({ name, content }) => ({ filename: name, content })),
        subject: mail.subject,
        text: mail.body,
        ...(mail.html !== null && { html: mail.html }),
        ...(mail.replyTo !== null && { replyTo: { name: '', address: mail.replyTo } }),
        // The same on every try: whoever gets it twice can tell.
        messageId: `<${mailId}@${way.sender.split('@').at(-1)}>`,
      })) as { response: string };
      await note('sent', response);
    } catch (error) {
      const { responseCode, response, message } = error as SmtpFault;
      const refused = responseCode !== undefined && responseCode >= 500;
      // All of it may have arrived, only not the answer (RFC 1047).
      if (responseCode === undefined && BROKE_OFF.test(message)) twice = true;
      await note(refused ? 'refused' : last ? 'given-up' : 'waiting', response ?? message);
      if (!refused) throw error;
    }
  }

  private enclosedIn(enclosed: string): Promise<Enclosure[]> {
    return this.db.query('SELECT name, content FROM mail_enclosure WHERE enclosed = $1 ORDER BY position', [enclosed]);
  }

  private async tidy(): Promise<void> {
    await this.db.query(
      `DELETE FROM mail_enclosure e WHERE NOT EXISTS
         (SELECT 1 FROM mail m WHERE m.enclosed = e.enclosed AND m.created_at > $1)`,
      [new Date(this.clock.now() - ENCLOSED_MS)],
    );
  }

  private async note(mailId: string, { state, answer, twice, enclosed }: Ended): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query(
        // What has gone out is kept by nobody but whom it was for: it may hold a link, or a code.
        `UPDATE mail SET state = $2, tries = tries + 1, answer = $3, body = CASE WHEN $2 = 'sent' THEN '' ELSE body END,
          html = CASE WHEN $2 = 'sent' THEN NULL ELSE html END, began = false, perhaps_twice = $5,
          enclosed = CASE WHEN $2 = 'sent' THEN NULL ELSE enclosed END,
          ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE $4::timestamptz END
          WHERE id = $1`,
        [mailId, state, answer.slice(0, 500), this.clock.date(), twice],
      );
      if (state === 'refused' || state === 'given-up')
        for (const tell of this.whenLost) await tell(tx, { mailId, words: answer });
      if (state === 'sent' && enclosed !== null) await freeEnclosed(tx, enclosed);
      await this.events.tell(tx, { topic: 'task', id: mailId });
    });
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
  state: State;
  answer: string;
  twice: boolean;
  enclosed: string | null;
}

interface SmtpFault {
  responseCode?: number;
  response?: string;
  message: string;
}

/** How the library says that a connection ended which stood already; at which command it does not say. */
const BROKE_OFF = /closed unexpectedly|after connection was closed|^Timeout$|ECONNRESET|EPIPE/;
