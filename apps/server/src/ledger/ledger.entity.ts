import { Column, Entity, PrimaryColumn } from 'typeorm';
import type { LedgerBody } from '@quay/core';
import { asNumber } from '../platform/database/columns.js';

@Entity('ledger_entry')
export class LedgerEntry {
  @PrimaryColumn('bigint', { transformer: asNumber }) seq!: number;
  @Column('timestamptz') at!: Date;
  @Column('text') kind!: string;
  @Column('text', { name: 'actor_kind' }) actorKind!: LedgerBody['actor']['kind'];
  @Column('uuid', { name: 'actor_id', nullable: true }) actorId!: string | null;
  @Column('text', { name: 'actor_name' }) actorName!: string;
  @Column('uuid', { name: 'share_id', nullable: true }) shareId!: string | null;
  @Column('uuid', { name: 'node_id', nullable: true }) nodeId!: string | null;
  @Column('jsonb') detail!: LedgerBody['detail'];
  @Column('text', { name: 'prev_hash' }) prevHash!: string;
  @Column('text') hash!: string;
}

/** The body that was hashed, from its columns. */
export function bodyOf(entry: LedgerEntry): LedgerBody {
  return {
    seq: entry.seq,
    at: entry.at.toISOString(),
    kind: entry.kind,
    actor: { kind: entry.actorKind, id: entry.actorId, name: entry.actorName },
    shareId: entry.shareId,
    nodeId: entry.nodeId,
    detail: entry.detail,
  };
}
