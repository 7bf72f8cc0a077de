import { Inject, Injectable } from '@nestjs/common';
import { gatewayRequest, type TextMessage } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Events } from './events/events.js';
import { Housekeeping } from './housekeeping.js';
import { Jobs, type Try } from './jobs/jobs.service.js';
import { hasTextGateway, loadTextGateway, type KeptGateway } from './text-gateway.js';

const TIMEOUT_MS = 15_000;
/** So much of what a gateway says is read, and so much is kept. */
const ANSWER_BYTES = 10_000;
const ANSWER_KEPT = 300;
/** How it ended is kept for so long. */
const KEPT_MS = 30 * 86_400_000;

/** What a gateway said. */
export interface GatewayAnswer {
  /** Null: it did not answer. */
  status: number | null;
  words: string;
}

/**
 * Text messages, handed in with the transaction that causes them and sent by the queue through the office's gateway,
 * until that has taken them, refused them for good (an answer from 400 to 499, RFC 9110 §15.5), or was tried for long.
 */
@Injectable()
export class TextMessages {
  constructor(
    @Inject(CONFIG) private readonly config: Config,
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly jobs: Jobs,
    housekeeping: Housekeeping,
  ) {
    jobs.define<{ messageId: string; to: string }>(
      'text-message',
      ({ to }) => `Text message to ${to}`,
      ({ messageId }, attempt) => this.send(messageId, attempt),
    );
    housekeeping.add('text messages that have ended', () => this.tidy());
  }

  /** Whether there is a gateway to hand them to. */
  canSend(m: EntityManager): Promise<boolean> {
    return hasTextGateway(m);
  }

  /** Hands one in. @returns what it is known by; null: without a gateway nothing is kept */
  async handIn(tx: EntityManager, { to, text }: TextMessage): Promise<string | null> {
    if (!(await hasTextGateway(tx))) return null;
    const messageId = uuidv7();
    await tx.query('INSERT INTO text_message (id, recipient, body, created_at) VALUES ($1, $2, $3, $4)', [
      ...[messageId, to, text, this.clock.date()],
    ]);
    await this.jobs.handIn(tx, 'text-message', { messageId, to }, { key: messageId });
    return messageId;
  }

  hurry(): void {
    this.jobs.hurry('text-message');
  }

  private async send(messageId: string, { last }: Try): Promise<void> {
    const [message] = await this.db.query<(TextMessage & { state: string })[]>(
      'SELECT recipient AS "to", body AS text, state FROM text_message WHERE id = $1',
      [messageId],
    );
    // Sent by somebody who died before the queue was told.
    if (!message || message.state === 'sent') return;
    const kept = await loadTextGateway(this.db.manager, this.config.sealingKey);
    if (!kept) return;
    const { status, words } = await askGateway(kept, message);
    const isTaken = status !== null && status >= 200 && status < 300;
    const isRefused = status !== null && status >= 400 && status < 500 && status !== 429;
    await this.note(messageId, isTaken ? 'sent' : isRefused ? 'refused' : last ? 'given-up' : 'waiting', words);
    if (!isTaken && !isRefused) throw new Error(words);
  }

  private async note(messageId: string, state: string, answer: string): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query(
        // What has ended is kept by nobody but whom it was for: it holds a code.
        `UPDATE text_message SET state = $2, tries = tries + 1, answer = $3,
                body = CASE WHEN $2 = 'waiting' THEN body ELSE '' END,
                ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE $4::timestamptz END
          WHERE id = $1`,
        [messageId, state, answer.slice(0, ANSWER_KEPT), this.clock.date()],
      );
      await this.events.tell(tx, { topic: 'task', id: messageId });
    });
  }

  private async tidy(): Promise<void> {
    await this.db.query('DELETE FROM text_message WHERE ended_at < $1', [new Date(this.clock.now() - KEPT_MS)]);
  }
}

/** Asks a gateway to send one message. What it leads elsewhere to is not followed: the secret is for it alone. */
export async function askGateway({ gateway, secret }: KeptGateway, message: TextMessage): Promise<GatewayAnswer> {
  const { method, url, headers, body } = gatewayRequest(gateway, message, secret);
  try {
    const signal = AbortSignal.timeout(TIMEOUT_MS);
    const answer = await fetch(url, { method, headers, body, redirect: 'manual', signal });
    const said = await beginningOf(answer);
    const hidden = secret === '' ? said : said.replaceAll(secret, '…');
    return { status: answer.status, words: `${answer.status} ${hidden}`.trim() };
  } catch (error) {
    const { cause, message: words } = error as Error & { cause?: { code?: string; message?: string } };
    return { status: null, words: cause?.message || cause?.code || words };
  }
}

async function beginningOf(answer: Response): Promise<string> {
  const decoder = new TextDecoder();
  let text = '';
  if (!answer.body) return text;
  try {
    for await (const piece of answer.body) {
      text += decoder.decode(piece as Uint8Array, { stream: true });
      if (text.length >= ANSWER_BYTES) break;
    }
  } catch {
    // By its status it has answered: a message that was taken is not sent again because its words never end.
  }
  return text.replace(/\s+/g, ' ').slice(0, ANSWER_KEPT);
}
