import { Injectable } from '@nestjs/common';
import type { ShareMay } from '@quay/core';
import { LRUCache } from 'lru-cache';
import { QueryFailedError, type EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { aside } from '../platform/aside.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { NoticesService } from '../people/notices.service.js';
import { fileSpent } from './given.js';
import { beginTaking, noteArchive, noteFiles, spentFiles } from './visits.queries.js';

/** What a visit takes: a file, or everything as one archive. */
export interface Taking {
  visitId: string;
  share: { id: string; title: string; createdBy: string; may: Pick<ShareMay, 'fileLimit'> };
  what: { file: { id: string; name: string } } | { archiveOf: number; ids: readonly string[] };
}

interface Waiting {
  taking: Taking;
  resolve: () => void;
  reject: (error: unknown) => void;
}

/** Notes that are written down in one transaction. */
const AT_ONCE = 200;

/**
 * Writes down, before the first byte goes out, the first time that a visit takes something; ranges and repeats are the
 * same taking. The ledger is one chain, so whoever writes waits for everybody before them: what comes while one
 * transaction is being written goes into the next one together, and two hundred visitors wait for a few of them.
 */
@Injectable()
export class Takings {
  /** What was noted lately, so that ranges and repeats need not ask; the table decides. */
  private readonly noted = new LRUCache<string, true>({ max: 20_000 });
  private waiting: Waiting[] = [];
  private writing = false;

  constructor(
    private readonly clock: Clock,
    private readonly ledger: LedgerService,
    private readonly notices: NoticesService,
    private readonly events: Events,
  ) {}

  /**
   * Resolves when it is written down.
   * @param isTheirs what they brought themselves they may take as often as they like
   * @throws Problem share.spent where it would be taken more often than it may be
   */
  async note(taking: Taking, isTheirs = false): Promise<void> {
    const { fileLimit } = taking.share.may;
    if (fileLimit !== null && !isTheirs) return this.noteWithin(taking, fileLimit);
    if (this.noted.has(keyOf(taking))) return;
    const written = new Promise<void>((resolve, reject) => this.waiting.push({ taking, resolve, reject }));
    // Nobody waits for those who came after them.
    if (!this.writing) aside(this.writeAll(), 'what was taken could not be written down');
    await written;
  }

  /** One at a time for each share, so that however many come together no file is taken too often. */
  private async noteWithin(taking: Taking, fileLimit: number): Promise<void> {
    const { visitId, what, share } = taking;
    const ids = 'file' in what ? [what.file.id] : what.ids;
    // What this visit has taken once it may take again; an archive may hold more by now.
    if ('file' in what && this.noted.has(keyOf(taking))) return;
    await this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM share WHERE id = $1 FOR NO KEY UPDATE', [share.id]);
      const spent = await spentFiles(tx, { shareId: share.id, fileLimit, visitId }, ids);
      if (spent.size > 0) throw fileSpent();
      await this.writeIn(tx, [taking]);
      // Of an archive each file counts.
      const at = this.clock.date();
      await noteFiles(
        tx,
        ids.map((nodeId) => ({ visitId, nodeId })),
        at,
      );
    });
    this.noted.set(keyOf(taking), true);
  }

  private async writeAll(): Promise<void> {
    this.writing = true;
    try {
      while (this.waiting.length > 0) await this.writeSome(this.waiting.splice(0, AT_ONCE));
    } finally {
      this.writing = false;
    }
  }

  /** One that cannot be written does not keep the others from it. */
  private async writeSome(some: Waiting[]): Promise<void> {
    try {
      await this.write(some.map((w) => w.taking));
      for (const { resolve } of some) resolve();
    } catch (error) {
      // The database being away is true of all: to find that out for each would keep everybody waiting.
      if (some.length === 1 || !isOfOne(error)) for (const { reject } of some) reject(error);
      else for (const one of some) await this.writeSome([one]);
    }
  }

  private async write(takings: Taking[]): Promise<void> {
    // In one order, so that two processes cannot wait for each other.
    const different = [...new Map(takings.map((t) => [keyOf(t), t])).entries()]
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([, taking]) => taking);
    await this.events.change((tx) => this.writeIn(tx, different));
    for (const taking of different) this.noted.set(keyOf(taking), true);
  }

  private async writeIn(tx: EntityManager, takings: Taking[]): Promise<void> {
    const fresh = await this.firstOf(tx, takings);
    for (const taking of await this.firstOfVisit(tx, fresh)) await this.tellPublisher(tx, taking);
    await this.ledger.append(tx, ...fresh.map(entryOf));
  }

  /** Publishers are told once of each visit that takes something. */
  private async firstOfVisit(tx: EntityManager, takings: Taking[]): Promise<Taking[]> {
    const first = new Set(await beginTaking(tx, [...new Set(takings.map((t) => t.visitId))], this.clock.date()));
    return takings.filter((t) => first.delete(t.visitId));
  }

  private tellPublisher(tx: EntityManager, { share: { title, createdBy }, what }: Taking): Promise<void> {
    const name = 'file' in what ? what.file.name : 'everything as one archive';
    return this.notices.give(tx, 'share-taken', createdBy, {
      subject: 'Something was taken from a share of yours',
      text: `Somebody has taken ${name} from ${title}. Who it was, and what else they take, stands in Shares.`,
    });
  }

  private async firstOf(tx: EntityManager, takings: Taking[]): Promise<Taking[]> {
    const at = this.clock.date();
    const files = takings.flatMap(({ visitId, what }) => ('file' in what ? [{ visitId, nodeId: what.file.id }] : []));
    const noted = await noteFiles(tx, files, at);
    const fresh: Taking[] = [];
    for (const taking of takings) {
      const { what, visitId } = taking;
      const isFirst = 'file' in what ? noted.has(keyOf(taking)) : await noteArchive(tx, visitId, at);
      if (isFirst) fresh.push(taking);
    }
    return fresh;
  }
}

/** Whether what was refused lies in the rows (PostgreSQL, class 23), or in who was first (class 40). */
const isOfOne = (error: unknown): boolean =>
  error instanceof QueryFailedError && /^(23|40)/.test((error.driverError as { code?: string }).code ?? '');

const keyOf = ({ visitId, what }: Taking): string => `${visitId} ${'file' in what ? what.file.id : 'archive'}`;

function entryOf({ visitId, share, what }: Taking): NewEntry {
  const detail: NewEntry['detail'] =
    'file' in what
      ? { title: share.title, name: what.file.name }
      : { title: share.title, name: 'everything as one archive', files: what.archiveOf };
  return {
    kind: 'share.downloaded',
    actor: { kind: 'visitor', id: visitId, name: 'A visitor' },
    shareId: share.id,
    nodeId: 'file' in what ? what.file.id : null,
    detail,
  };
}
