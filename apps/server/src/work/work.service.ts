import { Injectable } from '@nestjs/common';
import { WORK_SHOWN, type MailItem, type WorkItem, type WorkList } from '@quay/contract';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { JOBS_SCHEMA, type QueueName } from '../platform/jobs/queues.js';
import { Mail } from '../platform/mail.js';
import { notFound } from '../platform/problems/problem.js';

interface Row {
  id: string;
  kind: string;
  data: object | null;
  state: 'created' | 'retry' | 'active' | 'failed';
  dueAt: Date;
  tries: number;
  failure: string | null;
  endedAt: Date | null;
}

/** What the queue holds, for whoever runs the server. */
@Injectable()
export class WorkService {
  constructor(
    private readonly db: DataSource,
    private readonly jobs: Jobs,
    private readonly mail: Mail,
    private readonly events: Events,
    private readonly clock: Clock,
  ) {}

  async list(): Promise<WorkList> {
    const [waiting, givenUp, mail] = await Promise.all([
      this.rows(`state < 'completed' ORDER BY start_after, id`, WORK_SHOWN + 1),
      this.rows(`state = 'failed' ORDER BY completed_on DESC, id`, WORK_SHOWN),
      this.db.query<(Omit<MailItem, 'createdAt' | 'endedAt'> & { createdAt: Date; endedAt: Date | null })[]>(
        `(SELECT id, 'mail' AS by, recipient AS "to", coalesce(shown_as, subject) AS subject, state, tries, answer, created_at AS "createdAt",
                 ended_at AS "endedAt" FROM mail ORDER BY created_at DESC LIMIT ${WORK_SHOWN})
         UNION ALL
         (SELECT id, 'text-message', recipient, 'A code', state, tries, answer, created_at, ended_at FROM text_message
           ORDER BY created_at DESC LIMIT ${WORK_SHOWN})
         ORDER BY "createdAt" DESC LIMIT ${WORK_SHOWN}`,
      ),
    ]);
    return {
      waiting: waiting.slice(0, WORK_SHOWN).map((r) => this.shown(r)),
      moreWaiting: waiting.length > WORK_SHOWN,
      givenUp: givenUp.map((r) => this.shown(r)),
      mail: mail.map((m) => ({
        ...m,
        createdAt: m.createdAt.toISOString(),
        endedAt: m.endedAt?.toISOString() ?? null,
      })),
    };
  }

  /** A job that was given up, by its id; or mail that was refused or given up, by its own. @throws Problem not-found */
  async again(name: QueueName, id: string): Promise<WorkList> {
    const begun = (name === 'mail' && (await this.mail.again(id))) || (await this.jobs.again(name, id));
    if (!begun) throw notFound('What was given up');
    await this.events.change((tx) => this.events.tell(tx, { topic: 'task', id }));
    return this.list();
  }

  private rows(which: string, limit: number): Promise<Row[]> {
    return this.db.query(
      `SELECT id, name AS kind, data, state, start_after AS "dueAt", retry_count AS tries,
        output->>'message' AS failure,
              completed_on AS "endedAt" FROM ${JOBS_SCHEMA}.job WHERE ${which} LIMIT ${limit}`,
    );
  }

  private shown({ id, kind, data, state, dueAt, tries, failure, endedAt }: Row): WorkItem {
    return {
      id,
      kind,
      words: this.jobs.words(kind, data),
      state: state === 'failed' ? 'given-up' : state === 'active' ? 'running' : 'waiting',
      // The queue goes by the machine's clock, people by the server's.
      dueAt: new Date(dueAt.getTime() + this.clock.now() - Date.now()).toISOString(),
      tries,
      failure,
      endedAt: endedAt?.toISOString() ?? null,
    };
  }
}
