import { Injectable } from '@nestjs/common';
import { readFactorCode } from '@quay/core';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { secretHash } from '../platform/seal.js';

/** The cookie by which a browser needs no code. */
export const NO_CODE_COOKIE = 'quay_no_code';
export const NO_CODE_DAYS = 30;
const KEPT_MS = NO_CODE_DAYS * 86_400_000;
/** Of one person; the oldest goes. */
const MOST = 20;

/**
 * Browsers in which somebody has typed a code and said that none is to be asked for there for a while. They stand for the
 * code and not for the password. All are forgotten with the second factor, the password, and whoever is signed out
 * everywhere.
 */
@Injectable()
export class FactorBrowsers {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  async count(personId: string): Promise<number> {
    const [row] = await this.db.query<{ count: number }[]>(
      'SELECT count(*)::int AS count FROM factor_browser WHERE person_id = $1 AND ends_at > $2',
      [personId, this.clock.date()],
    );
    return row?.count ?? 0;
  }

  /** Whether a browser that bears this needs no code of that person. */
  async holds(personId: string, token: string | null): Promise<boolean> {
    if (token === null) return false;
    const rows = await this.db.query<unknown[]>(
      'SELECT 1 FROM factor_browser WHERE token_hash = $1 AND person_id = $2 AND ends_at > $3',
      [secretHash(token), personId, this.clock.date()],
    );
    return rows.length > 0;
  }

  /** @returns what the browser is to bear; null after a code for recovery: whoever types one has lost a device */
  async remember(tx: EntityManager, personId: string, code: string): Promise<string | null> {
    if (readFactorCode(code)?.kind !== 'code') return null;
    const token = randomBytes(32).toString('base64url');
    const now = this.clock.date();
    await tx.query('DELETE FROM factor_browser WHERE ends_at <= $1', [now]);
    await tx.query(
      `DELETE FROM factor_browser WHERE person_id = $1 AND token_hash NOT IN (
         SELECT token_hash FROM factor_browser WHERE person_id = $1 ORDER BY ends_at DESC LIMIT $2)`,
      [personId, MOST - 1],
    );
    await tx.query('INSERT INTO factor_browser (token_hash, person_id, ends_at) VALUES ($1, $2, $3)', [
      secretHash(token),
      personId,
      new Date(now.getTime() + KEPT_MS),
    ]);
    return token;
  }
}
