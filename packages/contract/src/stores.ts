import type { AccessLevel, Act, PreviewKind, RemovalReason, StoreKind } from '@quay/core';
import Joi from 'joi';
import { idSchema, lineSchema, nameSchema, timeSchema } from './common.js';

/** A place where somebody comes in: a store, or a folder in one of which they do not see what lies above. */
export interface StoreSummary {
  /** The store's. */
  id: string;
  kind: StoreKind;
  name: string;
  /** The folder that is opened: the store's own, or the one deeper down. */
  rootId: string;
  /** A folder deeper down: of the store around it nothing is told. */
  part: boolean;
  level: AccessLevel;
  acts: Act[];
  itemCount: number;
  /** Versions and trash counted in, each blob once. */
  usedBytes: number;
  quotaBytes: number | null;
  changedAt: string | null;
  /** Since when nothing is added or changed in it; null: it is not archived. */
  archivedAt: string | null;
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
  litter: boolean;
  pinned: boolean;
  /** Brought by who asks, and accepted by nobody yet. */
  mine: boolean;
  /** Ids of tags. */
  tags: string[];
}

export interface PathPart {
  id: string;
  name: string;
}

export interface FolderHead {
  id: string;
  storeId: string;
  storeKind: StoreKind;
  name: string;
  level: AccessLevel;
  acts: Act[];
  /** With what one has brought oneself and nobody has accepted. */
  own: Act[];
  /** From the topmost folder that is seen down to this one. */
  path: PathPart[];
  itemCount: number;
  litterCount: number;
  /** Since when nothing is added or changed in the store; null: it is not archived. */
  archivedAt: string | null;
}

export interface FolderPage {
  /** On the first page; null on the others. */
  folder: FolderHead | null;
  items: NodeItem[];
  /** Pass as `after` for the next page; null on the last. */
  next: string | null;
}
export const SORT_KEYS = ['name', 'size', 'changed', 'type'] as const;
export type SortKey = (typeof SORT_KEYS)[number];
/** Items of a page: so many that what a request costs by itself is little beside them (docs/benchmarks.md). */
export const PAGE_SIZE = 500;
export interface FolderQuery {
  after?: string;
  litter: boolean;
  sort: SortKey;
  descending: boolean;
}
export const folderQuerySchema = Joi.object<FolderQuery>({
  after: Joi.string().max(2000),
  litter: Joi.boolean().default(false),
  sort: Joi.string()
    .valid(...SORT_KEYS)
    .default('name'),
  descending: Joi.boolean().default(false),
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
const nodeIds = Joi.array().items(idSchema).min(1).max(MOST_ITEMS).unique();
export const nodeIdsSchema = Joi.object<NodeIds>({ nodeIds: nodeIds.required() });

export interface MoveNodes extends NodeIds {
  toFolderId: string;
  /** Taken names: nothing moves, or those get a number. */
  ifTaken: 'refuse' | 'keep-both';
  /** More people would reach it there: false, and it is refused with who they are; true once that has been seen. */
  widens: boolean;
}
export const moveSchema = Joi.object<MoveNodes>({
  nodeIds: nodeIds.required(),
  toFolderId: idSchema.required(),
  ifTaken: Joi.string().valid('refuse', 'keep-both').default('refuse'),
  widens: Joi.boolean().default(false),
});
/** Who would reach what is moved and does not now, or could do more with it. */
export interface MoveWidens {
  gains: { name: string; level: AccessLevel }[];
  /** How many they are in all. */
  people: number;
}
export interface MoveAnswer {
  /** Where each came from and what it is called now, so that it can be moved back. */
  moved: { id: string; name: string; fromFolderId: string; fromName: string }[];
}
export interface CopyNodes extends NodeIds {
  toFolderId: string;
}
export const copySchema = Joi.object<CopyNodes>({ nodeIds: nodeIds.required(), toFolderId: idSchema.required() });

export interface PutBack extends NodeIds {
  /** Another folder than the one it came from. */
  toFolderId?: string;
}
export const putBackSchema = Joi.object<PutBack>({ nodeIds: nodeIds.required(), toFolderId: idSchema });
export interface TrashAnswer {
  nodeIds: string[];
}
export interface PurgeAnswer {
  files: number;
  /** Items that stay, each with the reason. */
  kept: { id: string; name: string; why: string }[];
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
  /** The folder it was in, as a path below the store. */
  from: string;
  /** False when that folder is in the trash itself or gone. */
  placeIsThere: boolean;
  /** When age removes it for good; null: never. */
  purgeAt: string | null;
  /** Whether who asks may remove it for good. */
  removable: boolean;
}
export interface TrashList {
  items: TrashItem[];
  /** True when there are more than are shown. */
  more: boolean;
}

export const CONFLICT_CHOICES = ['refuse', 'version', 'keep-both'] as const;
export type ConflictChoice = (typeof CONFLICT_CHOICES)[number];
export const conflictSchema = Joi.string().valid(...CONFLICT_CHOICES);
export const modifiedAtSchema = Joi.number().integer().min(0).max(8.64e15);
export const uploadQuerySchema = Joi.object<{ name: string; conflict: ConflictChoice; modifiedAt?: number }>({
  name: nameSchema.required(),
  conflict: conflictSchema.default('refuse'),
  modifiedAt: modifiedAtSchema,
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

/** Everything about one item that is not in its row. */
export interface NodeInfo {
  id: string;
  kind: 'folder' | 'file';
  name: string;
  path: PathPart[];
  mediaType: string | null;
  sizeBytes: number;
  files: number;
  createdAt: string;
  changedAt: string;
  changedBy: string | null;
  /** Lower-case hexadecimal; null for a folder, and for whoever may not have the bytes. */
  sha256: string | null;
  damaged: boolean;
  tags: string[];
  pinned: boolean;
  preview: PreviewFacts | null;
}
/** How a file can be looked at without its bytes being run. */
export interface PreviewFacts {
  kind: PreviewKind;
  pages: number | null;
}
export interface FileText {
  text: string;
  encoding: 'UTF-8' | 'UTF-16' | 'Latin-1';
  truncated: boolean;
  sizeBytes: number;
}

export interface VersionRow {
  number: number;
  sizeBytes: number;
  /** null for whoever may look at the file and not have it. */
  sha256: string | null;
  createdAt: string;
  modifiedAt: string;
  createdBy: string | null;
  kept: boolean;
  current: boolean;
}
export interface VersionList {
  versions: VersionRow[];
  policy: string;
}
export const keepSchema = Joi.object<{ kept: boolean }>({ kept: Joi.boolean().required() });

/** An item as it was at a moment. */
export interface PastItem {
  id: string;
  kind: 'folder' | 'file';
  name: string;
  mediaType: string | null;
  sizeBytes: number;
  versionNumber: number | null;
  /** False when its bytes have been removed for good since. */
  restorable: boolean;
  /** How it is now: as then, changed, moved elsewhere, in the trash, or removed for good. */
  now: 'same' | 'changed' | 'moved' | 'trashed' | 'gone';
}
export interface PastFolder {
  folder: { id: string; name: string; path: PathPart[]; storeId: string; acts: Act[] };
  items: PastItem[];
  /** True when there were more than are shown. */
  more: boolean;
  /** Moments at which something changed in the folder, oldest first, at most a few hundred. */
  moments: string[];
}
export const atSchema = Joi.object<{ at: string }>({ at: timeSchema.required() });
export interface RestorePast {
  at: string;
  /** Null: everything in the folder. */
  nodeIds: string[] | null;
}
export const restorePastSchema = Joi.object<RestorePast>({
  at: timeSchema.required(),
  nodeIds: nodeIds.allow(null).required(),
});
export interface RestoreAnswer {
  restored: number;
  same: number;
  /** Names whose bytes are gone. */
  lost: string[];
  /** What was not brought back, with the reason. */
  refused: { name: string; why: string }[];
}

export const KINDS = ['image', 'pdf', 'text', 'drawing', 'audio', 'video', 'archive', 'folder', 'other'] as const;
export type Kind = (typeof KINDS)[number];
export interface FindQuery {
  text?: string;
  inside: boolean;
  storeId?: string;
  tagId?: string;
  kind?: Kind;
  personId?: string;
  minBytes?: number;
  maxBytes?: number;
  from?: string;
  to?: string;
}
export const findQuerySchema = Joi.object<FindQuery>({
  text: lineSchema.max(200).allow(''),
  inside: Joi.boolean().default(false),
  storeId: idSchema,
  tagId: idSchema,
  kind: Joi.string().valid(...KINDS),
  personId: idSchema,
  minBytes: Joi.number().integer().min(0),
  maxBytes: Joi.number().integer().min(0),
  from: timeSchema,
  to: timeSchema,
});
export interface FoundItem extends NodeItem {
  storeId: string;
  /** Folders above, outermost first. */
  path: PathPart[];
}
export interface FindAnswer {
  items: FoundItem[];
  /** True when there are more than are shown. */
  more: boolean;
}
export const MOST_FOUND = 200;

export const TAG_COLOURS = ['tide', 'lamp', 'buoy', 'flare', 'ink', 'stone'] as const;
export type TagColour = (typeof TAG_COLOURS)[number];
export interface Tag {
  id: string;
  name: string;
  colour: TagColour;
}
const tagName = lineSchema.min(1).max(40);
const colour = Joi.string().valid(...TAG_COLOURS);
export const createTagSchema = Joi.object<Omit<Tag, 'id'>>({ name: tagName.required(), colour: colour.required() });
export const changeTagSchema = Joi.object<Partial<Omit<Tag, 'id'>>>({ name: tagName, colour }).min(1);
export interface TagNodes extends NodeIds {
  tagId: string;
  on: boolean;
}
export const tagNodesSchema = Joi.object<TagNodes>({
  nodeIds: nodeIds.required(),
  tagId: idSchema.required(),
  on: Joi.boolean().required(),
});
export const pinSchema = Joi.object<NodeIds & { on: boolean }>({
  nodeIds: nodeIds.required(),
  on: Joi.boolean().required(),
});

export interface StorePolicyText {
  quotaBytes: number | null;
  largestFileBytes: number | null;
  allowedTypes: string[];
  versionsKept: number;
  thinAfterDays: number | null;
  trashDays: number | null;
}
const bytes = Joi.number().integer().min(0).allow(null);
const days = Joi.number().integer().min(1).max(3650).allow(null);
export const changePolicySchema = Joi.object<Partial<StorePolicyText>>({
  quotaBytes: bytes,
  largestFileBytes: bytes,
  allowedTypes: Joi.array()
    .items(
      Joi.string()
        .lowercase()
        .pattern(/^[a-z0-9]{1,12}$/)
        .messages({ 'string.pattern.base': 'A type is an extension of letters and digits, like pdf.' }),
    )
    .max(100)
    .unique(),
  versionsKept: Joi.number().integer().min(1).max(1000),
  thinAfterDays: days,
  trashDays: days,
}).min(1);
export const policyEffectSchema = Joi.object<{ versionsKept: number; thinAfterDays: number | null }>({
  versionsKept: Joi.number().integer().min(1).max(1000).required(),
  thinAfterDays: days.default(null),
});
/** What a policy would remove if it held now. */
export interface PolicyEffect {
  versions: number;
  bytes: number;
  /** The first of them. */
  examples: { name: string; number: number; reason: RemovalReason; createdAt: string }[];
}

export interface UsagePart {
  id: string;
  name: string;
  kind: 'folder' | 'files' | 'versions' | 'trash';
  bytes: number;
  files: number;
  children: UsagePart[];
}
export interface StoreUsage {
  store: StoreSummary;
  policy: StorePolicyText;
  policyWords: string;
  /** By folder, three levels deep; earlier versions and trash as parts of their own. What is not seen is not in it. */
  tree: UsagePart;
  /** Of all of the store; null for who sees a part of it. */
  growth: StoreGrowth | null;
}
/** How a store grows, until when that goes well, and who brought what. */
export interface StoreGrowth {
  samples: { day: string; usedBytes: number }[];
  capacityBytes: number;
  capacityOf: 'quota' | 'disk';
  forecast: { bytesPerDay: number; fullAt: string | null; earliest: string | null; latest: string | null } | null;
  people: { name: string; usedBytes: number }[];
}
/** What desktop systems left behind: the first of it, and how much there is in all. */
export interface Litter {
  items: LitterItem[];
  total: number;
  totalBytes: number;
}
export interface LitterItem {
  id: string;
  name: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
  place: string;
}
export interface PersonQuota {
  id: string;
  name: string;
  usedBytes: number;
  quotaBytes: number | null;
}
export const quotaSchema = Joi.object<{ quotaBytes: number | null }>({ quotaBytes: bytes.required() });

/** A version whose bytes are damaged or missing. */
export interface DamagedVersion {
  nodeId: string;
  name: string;
  version: number;
  since: string;
}
/** The first of them, and how many there are. */
export interface Damaged {
  versions: DamagedVersion[];
  total: number;
}
