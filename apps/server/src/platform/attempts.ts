import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import { Clock } from './clock.js';
import { Problem } from './problems/problem.js';

const MINUTE_MS = 60_000;

/** Counts tries by key in windows of one minute, in the database, so that several server processes count together. */
@Injectable()
export class Attempts {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /**
   * Counts one try, before anything costly is done for it.
   * @returns tries that are left in this minute
   * @throws Problem too-many, with the seconds to wait, when there are none
   */
  async take(key: string, perMinute: number): Promise<number> {
    const now = this.clock.date();
    const [row] = await this.db.query<{ count: number; window_start: Date }[]>(
      `INSERT INTO attempt AS a (key, window_start, count) VALUES ($1, $2, 1)
       ON CONFLICT (key) DO UPDATE SET
         count = CASE WHEN a.window_start <= $2::timestamptz - interval '1 minute' THEN 1 ELSE a.count + 1 END,
         window_start = CASE WHEN a.window_start <= $2::timestamptz - interval '1 minute' THEN $2 ELSE a.window_start END
       RETURNING count, window_start`,
      [key, now],
    );
    const used = row?.count ?? 1;
    if (used > perMinute) {
      const wait = Math.max(
        1,
        Math.ceil(((row as { window_start: Date }).window_start.getTime() + MINUTE_MS - now.getTime()) / 1000),
      );
      throw new Problem(
        'too-many',
        'tries.too-many',
        `Too many tries. Wait ${wait === 1 ? 'a second' : `${wait} seconds`}, then try again.`,
        { retryAfterSeconds: wait },
      );
    }
    return perMinute - used;
  }

  /** Gives a try back: it was right, and only wrong ones count. */
  async giveBack(key: string): Promise<void> {
    await this.db.query('UPDATE attempt SET count = greatest(count - 1, 0) WHERE key = $1', [key]);
  }

  /** Forgets windows that ended long ago. */
  async tidy(): Promise<void> {
    await this.db.query(`DELETE FROM attempt WHERE window_start < $1::timestamptz - interval '1 hour'`, [
      this.clock.date(),
    ]);
  }
}
