import { Injectable } from '@nestjs/common';
import { countOf } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from './clock.js';
import { Problem } from './problems/problem.js';

const MINUTE_MS = 60_000;
/** Whoever finds a line too long tries again after so long. */
const TURN_AGAIN_MS = 5000;

const waitWords = (seconds: number): string => {
  if (seconds > 90) return countOf(Math.ceil(seconds / 60), 'minute');
  return seconds === 1 ? 'a second' : `${seconds} seconds`;
};

/** Counts tries by key in windows of time, in the database, so that several server processes count together. */
@Injectable()
export class Attempts {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /**
   * Counts one try, before anything costly is done for it.
   * @param limit tries in a window: a minute, unless said otherwise
   * @returns tries that are left in this window
   * @throws Problem too-many, with the seconds to wait, when there are none
   */
  async take(key: string, limit: number, windowMs = MINUTE_MS): Promise<number> {
    const { count, windowStart } = await this.count(key, windowMs);
    if (count > limit) throw this.tooMany(windowStart, windowMs);
    return limit - count;
  }

  /** The refusal of a try, with how long it takes until there are more. */
  tooMany(windowStart: Date, windowMs: number): Problem {
    const wait = Math.max(1, Math.ceil((windowStart.getTime() + windowMs - this.clock.now()) / 1000));
    return new Problem('too-many', 'tries.too-many', `Too many tries. Wait ${waitWords(wait)}, then try again.`, {
      retryAfterSeconds: wait,
    });
  }

  /** Counts once. @returns how many there were in this window, this one included */
  async count(
    key: string,
    windowMs: number,
    m: EntityManager = this.db.manager,
  ): Promise<{ count: number; windowStart: Date }> {
    const now = this.clock.date();
    const [row] = await m.query<{ count: number; windowStart: Date }[]>(
      `INSERT INTO attempt AS a (key, window_start, count) VALUES ($1, $2, 1)
       ON CONFLICT (key) DO UPDATE SET
         count = CASE WHEN a.window_start <= $2::timestamptz - $3::int * interval '1 millisecond' THEN 1
           ELSE a.count + 1 END,
         window_start = CASE WHEN a.window_start <= $2::timestamptz - $3::int * interval '1 millisecond' THEN $2
           ELSE a.window_start END
       RETURNING count, window_start AS "windowStart"`,
      [key, now, windowMs],
    );
    return row ?? { count: 1, windowStart: now };
  }

  /**
   * Takes a place in line: so many a minute pass, the first of a minute at once, what is more one after the other.
   * @param longestMs whoever would have to wait for longer is refused, and takes no place
   * @returns how long to wait, in milliseconds
   * @throws Problem too-many
   */
  async turn(key: string, perMinute: number, longestMs: number): Promise<number> {
    const now = this.clock.date();
    const step = MINUTE_MS / perMinute;
    const ahead = (ms: number) => new Date(now.getTime() + ms);
    // What is kept is when the line would be empty (the generic cell rate algorithm of ITU-T I.371, from memory).
    const [row] = await this.db.query<{ empty: Date }[]>(
      `INSERT INTO attempt AS a (key, window_start, count) VALUES ($1, $2::timestamptz + $4::float8 * interval '1 millisecond', 1)
       ON CONFLICT (key) DO UPDATE
          SET window_start = greatest(a.window_start, $2) + $4::float8 * interval '1 millisecond', count = a.count + 1
        WHERE a.window_start <= $3 RETURNING window_start AS empty`,
      [key, now, ahead(MINUTE_MS - step + longestMs), step],
    );
    if (!row) throw this.tooMany(ahead(TURN_AGAIN_MS - MINUTE_MS), MINUTE_MS);
    return Math.max(0, row.empty.getTime() - now.getTime() - MINUTE_MS);
  }

  /** Gives a try back: it was right, and only wrong ones count. */
  async giveBack(key: string, m: EntityManager = this.db.manager): Promise<void> {
    await m.query('UPDATE attempt SET count = greatest(count - 1, 0) WHERE key = $1', [key]);
  }

  /** Notes that something was so, for about a day. */
  async remember(key: string): Promise<void> {
    await this.count(key, 1);
  }

  async remembers(key: string): Promise<boolean> {
    const rows = await this.db.query<unknown[]>('SELECT 1 FROM attempt WHERE key = $1', [key]);
    return rows.length > 0;
  }

  /** Forgets windows that ended long ago. */
  async tidy(): Promise<void> {
    await this.db.query(`DELETE FROM attempt WHERE window_start < $1::timestamptz - interval '1 day'`, [
      this.clock.date(),
    ]);
  }
}
