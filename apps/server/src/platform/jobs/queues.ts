import PgBoss from 'pg-boss';
import type { QueryRunner } from 'typeorm';

/** The schema of the database that the queue has to itself. */
export const JOBS_SCHEMA = 'jobs';

/** How jobs of a kind are tried. */
export interface QueueHow {
  /** Tries after the first; when they are used up the job is given up, and can be begun again by hand. */
  retryLimit: number;
  /** Seconds before the second try; doubled, with some chance, each time. */
  retryDelay: number;
  /** A process that has had it for so long and not told how it ended has died: somebody else takes it. */
  expireInSeconds: number;
}

/** Every kind of job. Made when the database is, so that whoever hands one in finds its queue. */
export const QUEUES = {
  guests: { retryLimit: 0, retryDelay: 0, expireInSeconds: 300 },
  'share-moment': { retryLimit: 10, retryDelay: 5, expireInSeconds: 60 },
  /** What a share that has closed leaves to be put into the trash; what broke off is done within an hour. */
  'share-files': { retryLimit: 3, retryDelay: 60, expireInSeconds: 600 },
  /** Looks at shares by the guardrails as they stand; what broke off is done within an hour. */
  guardrails: { retryLimit: 3, retryDelay: 10, expireInSeconds: 600 },
  /** A code holds for ten minutes. */
  'text-message': { retryLimit: 4, retryDelay: 15, expireInSeconds: 60 },
  /** Has a deposit scanned, file after file; one that broke off goes on where it was. */
  scan: { retryLimit: 8, retryDelay: 20, expireInSeconds: 3600 },
  mail: { retryLimit: 9, retryDelay: 30, expireInSeconds: 120 },
  /** Looks into the mailbox that mail comes back to. */
  'mail-returns': { retryLimit: 0, retryDelay: 0, expireInSeconds: 600 },
  /** Half a minute, and what it has waiting by then (PreviewsService), each at the worst for a minute. */
  previews: { retryLimit: 2, retryDelay: 30, expireInSeconds: 300 },
  /** Looks for long work of the admin; the work itself says that it lives (TasksService). */
  /** Sees which backups and rehearsals are due; they are long work themselves. */
  backups: { retryLimit: 0, retryDelay: 0, expireInSeconds: 60 },
  tasks: { retryLimit: 3, retryDelay: 5, expireInSeconds: 60 },
  upkeep: { retryLimit: 1, retryDelay: 300, expireInSeconds: 3600 },
  /** As long as authorities take; whose process ends is taken up within a minute or two (OrdersService). */
  certificates: { retryLimit: 0, retryDelay: 0, expireInSeconds: 1800 },
  weights: { retryLimit: 0, retryDelay: 0, expireInSeconds: 600 },
  /** Reads all of a directory, and makes what changes; whoever's process ends is taken up. */
  directory: { retryLimit: 1, retryDelay: 30, expireInSeconds: 1800 },
  'ways-in': { retryLimit: 0, retryDelay: 0, expireInSeconds: 600 },
} as const satisfies Record<string, QueueHow>;
export type QueueName = keyof typeof QUEUES;

/** Makes what the queue needs in the database, once; one process at a time does this (`migrate`). */
export async function makeQueues(runner: QueryRunner): Promise<void> {
  const [there] = (await runner.query('SELECT to_regclass($1) AS version', [`${JOBS_SCHEMA}.version`])) as {
    version: string | null;
  }[];
  if (!there?.version) await runner.query(PgBoss.getConstructionPlans(JOBS_SCHEMA));
  for (const [name, how] of Object.entries(QUEUES)) {
    // 'short': of jobs with the same key, one waits.
    await runner.query(`SELECT ${JOBS_SCHEMA}.create_queue($1, $2)`, [
      name,
      JSON.stringify({ policy: 'short', retryBackoff: true, ...how }),
    ]);
    // One that was made by an earlier version is tried as this one says.
    await runner.query(
      `UPDATE ${JOBS_SCHEMA}.queue SET retry_limit = $2, retry_delay = $3, expire_seconds = $4 WHERE name = $1`,
      [name, how.retryLimit, how.retryDelay, how.expireInSeconds],
    );
  }
}
