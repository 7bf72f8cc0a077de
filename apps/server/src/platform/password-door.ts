import { Injectable } from '@nestjs/common';
import { PASSWORD_TRIES_PER_MINUTE, SHARED_TRIES_PER_MINUTE } from '@quay/core';
import { setTimeout as wait } from 'node:timers/promises';
import { Attempts } from './attempts.js';
import { passwordMatches } from './passwords.js';
import { Problem } from './problems/problem.js';
import { secretHash } from './seal.js';

/** Whoever would wait for longer before their password is looked at is told to try again in a few seconds. */
const LONGEST_LINE_MS = 20_000;

/** The password of a share or an intake, asked for at a pace that guessing cannot bear. */
@Injectable()
export class PasswordDoor {
  constructor(private readonly attempts: Attempts) {}

  /**
   * @param source where the try comes from ({@link sourceOf})
   * @throws Problem share.password-needed, share.wrong-password, or the same of an intake; tries.too-many
   */
  async require(
    what: { kind: 'share' | 'intake'; id: string; passwordHash: string | null },
    source: string,
    password: string | null,
  ): Promise<void> {
    const { kind, id, passwordHash } = what;
    if (passwordHash === null) return;
    if (!password) throw new Problem('unauthenticated', `${kind}.password-needed`, `This ${kind} needs a password.`);
    // Counted before hashing: the rate that guessing is limited to, and what hashing may cost, hold together.
    const key = `${kind} ${id} from ${source}`;
    const triesLeft = await this.attempts.take(key, PASSWORD_TRIES_PER_MINUTE);
    // Whoever had the right one is not kept waiting by those who guess.
    const known = `knows ${secretHash(passwordHash).toString('hex')} ${source}`;
    if (!(await this.attempts.remembers(known))) await this.waitInLine(id);
    if (await passwordMatches(passwordHash, password)) {
      await this.attempts.giveBack(key);
      await this.attempts.remember(known);
      return;
    }
    throw new Problem(
      'unauthenticated',
      `${kind}.wrong-password`,
      `That is not the password. ${triesLeft === 0 ? 'Wait a minute before the next try.' : `${triesLeft} ${triesLeft === 1 ? 'try' : 'tries'} left in this minute.`}`,
      { triesLeft },
    );
  }

  /** Those who are not known yet try one after the other: it slows all of them down, and shuts nobody out. */
  private async waitInLine(id: string): Promise<void> {
    const ms = await this.attempts.turn(`line ${id}`, SHARED_TRIES_PER_MINUTE, LONGEST_LINE_MS);
    if (ms > 0) await wait(ms);
  }
}
