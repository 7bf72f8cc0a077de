import type { AccessLevel, StoreKind } from '@quay/core';
import Joi from 'joi';
import { idSchema, nameSchema } from './common.js';

export interface StoreSummary {
  id: string;
  kind: StoreKind;
  name: string;
  rootId: string;
  level: AccessLevel;
  itemCount: number;
  usedBytes: number;
  changedAt: string | null;
}

/** A row of a folder. Times are RFC 3339. */
export interface NodeItem {
  id: string;
  parentId: string;
  kind: 'folder' | 'file';
  name: string;
  sizeBytes: number;
  /** Live items directly inside; null for a file. */
  itemCount: number | null;
  mediaType: string | null;
  versionCount: number;
  changedAt: string;
  changedBy: string | null;
}

export interface PathPart {
  id: string;
  name: string;
}

export interface FolderPage {
  folder: { id: string; storeId: string; storeKind: StoreKind; name: string; level: AccessLevel; path: PathPart[]; itemCount: number; totalBytes: number };
  items: NodeItem[];
  /** Pass as `after` for the next page; null on the last. */
  next: string | null;
}
export const PAGE_SIZE = 200;
export const folderQuerySchema = Joi.object<{ after?: string; litter?: boolean }>({
  after: Joi.string().max(2000),
  litter: Joi.boolean(),
});

export interface CreateFolder {
  name: string;
  /** What to do when the name is taken: refuse, or use the folder that is there (folders merge). */
  ifExists: 'refuse' | 'use';
}
export const createFolderSchema = Joi.object<CreateFolder>({
  name: nameSchema.required(),
  ifExists: Joi.string().valid('refuse', 'use').default('refuse'),
});

export interface RenameNode {
  name: string;
}
export const renameSchema = Joi.object<RenameNode>({ name: nameSchema.required() });

export interface NodeIds {
  nodeIds: string[];
}
/** The most items one request may name. */
export const MOST_ITEMS = 200;
export const nodeIdsSchema = Joi.object<NodeIds>({ nodeIds: Joi.array().items(idSchema).min(1).max(MOST_ITEMS).unique().required() });

export interface TrashAnswer {
  nodeIds: string[];
}

/** What an item holds: files and bytes of everything in it that is not in the trash. */
export interface ItemTotal {
  id: string;
  files: number;
  sizeBytes: number;
}

export interface TrashItem {
  id: string;
  kind: 'folder' | 'file';
  name: string;
  sizeBytes: number;
  trashedAt: string;
  trashedBy: string | null;
  from: string;
}

export const CONFLICT_CHOICES = ['refuse', 'version', 'keep-both'] as const;
export type ConflictChoice = (typeof CONFLICT_CHOICES)[number];
export const uploadQuerySchema = Joi.object<{ name: string; conflict: ConflictChoice; modifiedAt?: number }>({
  name: nameSchema.required(),
  conflict: Joi.string().valid(...CONFLICT_CHOICES).default('refuse'),
  modifiedAt: Joi.number().integer().min(0).max(8.64e15),
});

export interface UploadAnswer {
  id: string;
  name: string;
  sizeBytes: number;
  sha256: string;
  version: number;
}

export const archiveQuerySchema = Joi.object<{ ids: string[] }>({
  ids: Joi.array().items(idSchema).single().min(1).max(MOST_ITEMS).required(),
});

export const namesSchema = Joi.object<{ names: string[] }>({ names: Joi.array().items(Joi.string().max(2000)).max(10_000).required() });
