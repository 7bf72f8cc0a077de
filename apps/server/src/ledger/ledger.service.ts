import { Injectable } from '@nestjs/common';
import { GENESIS_HASH, ledgerHash, ledgerWords, verifyChain, type LedgerBody } from '@quay/core';
import type { ChainAnswer, LedgerPage, LedgerRow } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { LOCKS } from '../platform/locks.js';
import { bodyOf, LedgerEntry } from './ledger.entity.js';

export interface NewEntry {
  kind: string;
  actor: LedgerBody['actor'];
  shareId?: string | null;
  nodeId?: string | null;
  detail: LedgerBody['detail'];
}

@Injectable()
export class LedgerService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
  ) {}

  /**
   * Appends entries inside the transaction of the things they tell of. Call it last: from here to the commit every
   * other writer waits, so that the chain has no gaps and no forks.
   */
  /** Whether the same was written down since a moment, among the last few hundred entries. */
  async wasLately(m: EntityManager, { kind, actor, detail }: NewEntry, since: Date): Promise<boolean> {
    const rows = await m.query<unknown[]>(
      `SELECT 1 FROM (SELECT kind, actor_id, detail, at FROM ledger_entry ORDER BY seq DESC LIMIT 500) last
        WHERE kind = $1 AND actor_id = $2 AND detail = $3 AND at > $4 LIMIT 1`,
      [kind, actor.id, JSON.stringify(detail), since],
    );
    return rows.length > 0;
  }

  async append(tx: EntityManager, ...entries: NewEntry[]): Promise<void> {
    if (entries.length === 0) return;
    await tx.query('SELECT pg_advisory_xact_lock($1)', [LOCKS.ledger]);
    const [last] = await tx.query<{ seq: string; hash: string }[]>(
      'SELECT seq, hash FROM ledger_entry ORDER BY seq DESC LIMIT 1',
    );
    const at = this.clock.date();
    let [seq, hash] = [Number(last?.seq ?? 0), last?.hash ?? GENESIS_HASH];
    const rows = entries.map((entry) => {
      seq += 1;
      const row = chained(entry, at, seq, hash);
      hash = row.hash;
      return row;
    });
    await tx.insert(LedgerEntry, rows);
    const events = entries.map(({ kind, actor, shareId = null }) => ({
      topic: 'ledger' as const,
      id: kind,
      personId: actor.id,
      shareId,
    }));
    await this.events.tell(tx, ...events);
  }

  /**
   * Newest first. `concerning` leaves only what a person did, or what happened to their shares; `actorId` only what
   * they did.
   */
  async page(query: {
    before?: number;
    limit: number;
    kind?: string;
    find?: string;
    shareId?: string;
    concerning?: string;
    actorId?: string;
  }): Promise<LedgerPage> {
    const where = `($1::bigint IS NULL OR seq < $1) AND ($2::text IS NULL OR kind LIKE $2 || '.%')
      AND ($3::text IS NULL OR actor_name ILIKE $3 OR detail::text ILIKE $3) AND ($4::uuid IS NULL OR share_id = $4)
      AND ($5::uuid IS NULL OR actor_id = $5 OR share_id IN (SELECT id FROM share WHERE created_by = $5))
      AND ($6::uuid IS NULL OR actor_id = $6)`;
    const find = query.find ? `%${query.find.replace(/[\\%_]/g, '\\$&')}%` : null;
    const bound = [query.kind ?? null, find, query.shareId ?? null, query.concerning ?? null, query.actorId ?? null];
    const rows = await this.db.query<{ seq: string }[]>(
      `SELECT seq FROM ledger_entry WHERE ${where} ORDER BY seq DESC LIMIT $7`,
      [query.before ?? null, ...bound, query.limit],
    );
    const [count] = await this.db.query<{ n: string }[]>(`SELECT count(*) AS n FROM ledger_entry WHERE ${where}`, [
      null,
      ...bound,
    ]);
    const found = rows.length
      ? await this.db
          .getRepository(LedgerEntry)
          .createQueryBuilder('e')
          .where('e.seq IN (:...seqs)', { seqs: rows.map((r) => r.seq) })
          .orderBy('e.seq', 'DESC')
          .getMany()
      : [];
    return {
      entries: found.map(rowOf),
      total: Number(count?.n ?? 0),
      next: rows.length === query.limit ? (found.at(-1)?.seq ?? null) : null,
    };
  }

  /** Who did such things after a moment, up to another, and how often; who did most first. */
  actorsBetween(kinds: readonly string[], from: Date, to: Date): Promise<{ name: string; times: number }[]> {
    return this.db.query(
      `SELECT actor_name AS name, count(*)::int AS times FROM ledger_entry
        WHERE kind = ANY($1) AND at > $2 AND at <= $3 GROUP BY actor_id, actor_name ORDER BY times DESC, name LIMIT 20`,
      [kinds, from, to],
    );
  }

  /** Walks the whole chain from the first entry, a thousand at a time. */
  async verify(): Promise<ChainAnswer> {
    let prev = GENESIS_HASH;
    let seq = 1;
    for await (const batch of this.batches()) {
      const links = batch.map((e) => ({ body: bodyOf(e), prevHash: e.prevHash, hash: e.hash }));
      const fault = verifyChain(links, prev, seq);
      if (fault) return { entries: seq - 1, lastHash: prev, fault };
      prev = links.at(-1)?.hash ?? prev;
      seq += links.length;
    }
    return { entries: seq - 1, lastHash: prev, fault: null };
  }

  /** The chain as JSON Lines, {body, prevHash, hash} each, for checking without the product. */
  async *exportLines(): AsyncGenerator<string> {
    for await (const batch of this.batches())
      yield batch.map((e) => `${JSON.stringify({ body: bodyOf(e), prevHash: e.prevHash, hash: e.hash })}\n`).join('');
  }

  private async *batches(): AsyncGenerator<LedgerEntry[]> {
    for (let after = 0; ;) {
      const batch = await this.db
        .getRepository(LedgerEntry)
        .createQueryBuilder('e')
        .where('e.seq > :after', { after })
        .orderBy('e.seq')
        .limit(1000)
        .getMany();
      if (batch.length === 0) return;
      yield batch;
      after = batch.at(-1)?.seq ?? after;
    }
  }
}

/** An entry in its place in the chain. */
export function chained(entry: NewEntry, at: Date, seq: number, prevHash: string): LedgerEntry {
  const body: LedgerBody = {
    seq,
    at: at.toISOString(),
    kind: entry.kind,
    actor: entry.actor,
    shareId: entry.shareId ?? null,
    nodeId: entry.nodeId ?? null,
    detail: entry.detail,
  };
  return {
    seq,
    at,
    kind: body.kind,
    actorKind: body.actor.kind,
    actorId: body.actor.id,
    actorName: body.actor.name,
    shareId: body.shareId,
    nodeId: body.nodeId,
    detail: body.detail,
    prevHash,
    hash: ledgerHash(body, prevHash),
  };
}

function rowOf(entry: LedgerEntry): LedgerRow {
  return {
    seq: entry.seq,
    at: entry.at.toISOString(),
    kind: entry.kind,
    who: entry.actorName,
    words: ledgerWords(bodyOf(entry)),
    shareId: entry.shareId,
    nodeId: entry.nodeId,
    hash: entry.hash,
  };
}
