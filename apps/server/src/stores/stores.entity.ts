import type { StoreKind } from '@quay/core';
import { Column, Entity, PrimaryColumn } from 'typeorm';
import { asNumber } from '../platform/database/columns.js';

@Entity('store')
export class Store {
  @PrimaryColumn('uuid') id!: string;
  @Column('text') kind!: StoreKind;
  @Column('text') name!: string;
  @Column('uuid', { name: 'owner_id', nullable: true }) ownerId!: string | null;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
}

@Entity('node')
export class Node {
  @PrimaryColumn('uuid') id!: string;
  @Column('uuid', { name: 'store_id' }) storeId!: string;
  @Column('uuid', { name: 'parent_id', nullable: true }) parentId!: string | null;
  @Column('text') kind!: 'folder' | 'file';
  @Column('text') name!: string;
  @Column('text', { name: 'name_key' }) nameKey!: string;
  @Column('boolean') litter!: boolean;
  @Column('bigint', { name: 'size_bytes', transformer: asNumber }) sizeBytes!: number;
  @Column('text', { name: 'media_type', nullable: true }) mediaType!: string | null;
  @Column('uuid', { name: 'version_id', nullable: true }) versionId!: string | null;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
  @Column('timestamptz', { name: 'changed_at' }) changedAt!: Date;
  @Column('uuid', { name: 'changed_by', nullable: true }) changedBy!: string | null;
  @Column('timestamptz', { name: 'trashed_at', nullable: true }) trashedAt!: Date | null;
  @Column('uuid', { name: 'trashed_by', nullable: true }) trashedBy!: string | null;
}

@Entity('file_version')
export class FileVersion {
  @PrimaryColumn('uuid') id!: string;
  @Column('uuid', { name: 'node_id' }) nodeId!: string;
  @Column('integer') number!: number;
  @Column('bytea') sha256!: Buffer;
  @Column('bigint', { name: 'size_bytes', transformer: asNumber }) sizeBytes!: number;
  @Column('timestamptz', { name: 'modified_at' }) modifiedAt!: Date;
  @Column('timestamptz', { name: 'created_at' }) createdAt!: Date;
  @Column('uuid', { name: 'charged_to', nullable: true }) chargedTo!: string | null;
  @Column('uuid', { name: 'created_by', nullable: true }) createdBy!: string | null;
}
