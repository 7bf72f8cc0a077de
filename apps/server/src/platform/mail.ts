import { Inject, Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Events } from './events/events.js';
import { Jobs, type Try } from './jobs/jobs.service.js';
import { hasMailWay, mailWayOf } from './mail-server.js';

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
  /** What whoever runs the server reads instead of the subject, where somebody else has written that. */
  shownAs?: string;
}

type State = 'waiting' | 'sent' | 'refused' | 'given-up';

interface Kept {
  recipient: string;
  subject: string;
  body: string;
  state: State;
  html: string | null;
  replyTo: string | null;
  senderName: string | null;
}

/**
 * Mail, handed in with the transaction that causes it and sent by the queue: until the mail server has taken it, or
 * refused it for good (RFC 5321 §4.2.1: a reply that begins with 5), or was tried for hours. How it ended is kept, in
 * the server's words.
 */
@Injectable()
export class Mail {
  constructor(
    @Inject(CONFIG) private readonly config: Config,
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly jobs: Jobs,
  ) {
    jobs.define<{ mailId: string; to: string; subject: string }>(
      'mail',
      ({ to, subject }) => `Mail to ${to}: ${subject}`,
      ({ mailId }, attempt) => this.send(mailId, attempt),
    );
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
    const { html = null, replyTo = null, senderName = null, shownAs = null } = more;
    await tx.query(
      `INSERT INTO mail (id, recipient, subject, body, created_at, html, reply_to, sender_name, shown_as)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
      [mailId, to, subject, text, this.clock.date(), html, replyTo, senderName, shownAs],
    );
    await this.jobs.handIn(tx, 'mail', { mailId, to, subject: shownAs ?? subject }, { key: mailId });
    return mailId;
  }

  /** Hands mail in anew that was refused or given up. @returns false when there is none such */
  again(mailId: string): Promise<boolean> {
    return this.events.change(async (tx) => {
      const [rows] = (await tx.query(
        `UPDATE mail SET state = 'waiting', ended_at = NULL WHERE id = $1 AND state IN ('refused', 'given-up')
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
      `SELECT recipient, subject, body, state, html, reply_to AS "replyTo", sender_name AS "senderName"
         FROM mail WHERE id = $1`,
      [mailId],
    );
    // Sent by somebody who died before the queue was told.
    if (!mail || mail.state === 'sent') return;
    const way = await mailWayOf(this.db.manager, this.config);
    if (!way) return;
    try {
      const { response } = (await way.transport.sendMail({
        from: { name: mail.senderName ?? 'Lockfast Quay', address: way.sender },
        // As an object: what is in it is one address, however it reads.
        to: { name: '', address: mail.recipient },
        subject: mail.subject,
        text: mail.body,
        ...(mail.html !== null && { html: mail.html }),
        ...(mail.replyTo !== null && { replyTo: { name: '', address: mail.replyTo } }),
        // The same on every try: whoever gets it twice can tell.
        messageId: `<${mailId}@${way.sender.split('@').at(-1)}>`,
      })) as { response: string };
      await this.note(mailId, 'sent', response);
    } catch (error) {
      const { responseCode, response, message } = error as {
        responseCode?: number;
        response?: string;
        message: string;
      };
      const refused = responseCode !== undefined && responseCode >= 500;
      await this.note(mailId, refused ? 'refused' : last ? 'given-up' : 'waiting', response ?? message);
      if (!refused) throw error;
    }
  }

  private async note(mailId: string, state: State, answer: string): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query(
        // What has gone out is kept by nobody but whom it was for: it may hold a link, or a code.
        `UPDATE mail SET state = $2, tries = tries + 1, answer = $3, body = CASE WHEN $2 = 'sent' THEN '' ELSE body END,
          html = CASE WHEN $2 = 'sent' THEN NULL ELSE html END,
          ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE $4::timestamptz END
          WHERE id = $1`,
        [mailId, state, answer.slice(0, 500), this.clock.date()],
      );
      await this.events.tell(tx, { topic: 'task', id: mailId });
    });
  }
}
