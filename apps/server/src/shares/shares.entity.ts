import type { AudienceKind, ShareLevel, Watermark } from '@quay/core';
import { Column, Entity, PrimaryColumn } from 'typeorm';

@Entity('share')
export class Share {
  @PrimaryColumn('uuid') id!: string;
  @Column('text') title!: string;
  @Column('text') message!: string;
  @Column('bytea', { name: 'token_hash' }) tokenHash!: Buffer;
  @Column('bytea', { name: 'token_sealed' }) tokenSealed!: Buffer;
  @Column('uuid', { name: 'address_id' }) addressId!: string;
  @Column('text') audience!: AudienceKind;
  @Column('text') level!: ShareLevel;
  @Column('boolean', { name: 'sees_others' }) seesOthers!: boolean;
  @Column('text') watermark!: Watermark;
  @Column('integer', { name: 'file_limit', nullable: true }) fileLimit!: number | null;
  @Column('bigint', { name: 'takes_bytes' }) takesBytes!: string;
  @Column('text', { name: 'password_hash', nullable: true }) passwordHash!: string | null;
  /** Of a password that was typed: how hard it is to guess, from 0 to 4. */
  @Column('smallint', { name: 'password_score', nullable: true }) passwordScore!: number | null;
  @Column('timestamptz', { name: 'opens_at', nullable: true }) opensAt!: Date | null;
  @Column('timestamptz', { name: 'closes_at', nullable: true }) closesAt!: Date | null;
  @Column('integer', { name: 'visit_limit', nullable: true }) visitLimit!: number | null;
  @Column('integer', { name: 'visits_used' }) visitsUsed!: number;
  @Column('timestamptz', { name: 'withdrawn_at', nullable: true }) withdrawnAt!: Date | null;
  @Column('boolean', { name: 'removes_files' }) removesFiles!: boolean;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
  @Column('uuid', { name: 'created_by' }) createdBy!: string;
}

@Entity('share_item')
export class ShareItem {
  @PrimaryColumn('uuid', { name: 'share_id' }) shareId!: string;
  @PrimaryColumn('uuid', { name: 'node_id' }) nodeId!: string;
  @Column('integer') position!: number;
  /** Null: it is served as it is at the time. */
  @Column('timestamptz', { name: 'frozen_at', nullable: true }) frozenAt!: Date | null;
  @Column('bigint', { name: 'frozen_bytes', nullable: true }) frozenBytes!: string | null;
}
