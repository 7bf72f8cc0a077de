import type { Role } from '@quay/core';
import { Column, Entity, PrimaryColumn } from 'typeorm';

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
}
