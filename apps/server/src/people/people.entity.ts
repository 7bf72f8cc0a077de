import type { NoticeKind, Role } from '@quay/core';
import { Column, Entity, PrimaryColumn } from 'typeorm';
import { asNumber } from '../platform/database/columns.js';

@Entity('person')
export class Person {
  @PrimaryColumn('uuid') id!: string;
  @Column('text', { name: 'sign_in_name' }) signInName!: string;
  @Column('text') email!: string;
  @Column('text') name!: string;
  @Column('text') initials!: string;
  @Column('text') role!: Role;
  @Column('text', { name: 'password_hash' }) passwordHash!: string;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
  @Column('timestamptz', { name: 'disabled_at', nullable: true }) disabledAt!: Date | null;
  @Column({ type: 'timestamptz', name: 'seen_at', nullable: true, insert: false }) seenAt!: Date | null;
  @Column({ type: 'timestamptz', name: 'ends_at', nullable: true, insert: false }) endsAt!: Date | null;
  /** Until when a password that somebody else made for them lets them in, to choose their own; null: it is their own. */
  @Column({ type: 'timestamptz', name: 'given_until', nullable: true, insert: false }) givenUntil!: Date | null;
  @Column('timestamptz', { name: 'factor_declined_at', nullable: true }) factorDeclinedAt!: Date | null;
  @Column({ type: 'text', array: true, insert: false }) notices!: NoticeKind[];
  @Column({ type: 'boolean', name: 'notices_daily', insert: false }) noticesDaily!: boolean;
}

/** Somebody's authenticator. It counts from when a first code of it was typed. */
@Entity('second_factor')
export class SecondFactorRow {
  @PrimaryColumn('uuid', { name: 'person_id' }) personId!: string;
  @Column('bytea', { name: 'secret_sealed' }) secretSealed!: Buffer;
  @Column('timestamptz', { name: 'begun_at' }) begunAt!: Date;
  @Column('timestamptz', { nullable: true }) since!: Date | null;
  @Column('bigint', { name: 'last_step', nullable: true, transformer: asNumber }) lastStep!: number | null;
}

@Entity('recovery_code')
export class RecoveryCode {
  @PrimaryColumn('uuid', { name: 'person_id' }) personId!: string;
  @PrimaryColumn('bytea', { name: 'code_hash' }) codeHash!: Buffer;
}

@Entity('session')
export class Session {
  @PrimaryColumn('bytea', { name: 'token_hash' }) tokenHash!: Buffer;
  @Column('uuid', { name: 'person_id' }) personId!: string;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
  @Column('timestamptz', { name: 'seen_at' }) seenAt!: Date;
  @Column('timestamptz', { name: 'expires_at' }) expiresAt!: Date;
  @Column({ type: 'uuid', insert: false, default: () => 'gen_random_uuid()' }) id!: string;
  @Column('text', { name: 'from_address' }) fromAddress!: string;
  @Column('text') agent!: string;
  @Column('boolean', { name: 'by_passkey' }) byPasskey!: boolean;
  @Column('boolean', { name: 'by_provider' }) byProvider!: boolean;
}
