import Joi from 'joi';
import { idSchema } from './common.js';
import { conflictSchema, modifiedAtSchema, type ConflictChoice, type UploadAnswer } from './stores.js';

/** Files up to this size travel many to a batch; larger ones each as a resumable upload (tus 1.0). */
export const BATCH_FILE_BYTES = 1_000_000;
export const BATCH_BYTES = 16_000_000;
export const BATCH_FILES = 250;

/** The most files that one question names: so many that the longest names stay within what a request may hold. */
export const FILES_CHECKED = 250;
export interface FilesToCheck {
  files: { name: string; sizeBytes: number }[];
  /** Of everything that is to be sent, when the list is asked about in parts: room is judged by it. */
  totalBytes?: number;
}
export const checkFilesSchema = Joi.object<FilesToCheck>({
  files: Joi.array()
    .items(
      Joi.object({
        name: Joi.string().max(2000).allow('').required(),
        sizeBytes: Joi.number().integer().min(0).required(),
      }),
    )
    .max(FILES_CHECKED)
    .required(),
  totalBytes: Joi.number().integer().min(0),
});
export interface CheckAnswer {
  /** Files that would be refused, by their place in the list. */
  faults: { index: number; code: string; words: string }[];
  /** Places of files whose names are taken. */
  taken: number[];
  /** When all together find no room. */
  room: { code: string; words: string } | null;
}

/** What a tus upload says in its Upload-Metadata. */
export interface UploadMetadata {
  /** Where it goes; left out where it `replaces`. */
  folderId?: string;
  /** Folders below that one, with forward slashes, made where they are not there. */
  path?: string;
  /** Through a share: the one file that gets another version, wherever it lies. */
  replaces?: string;
  name: string;
  conflict: ConflictChoice;
  modifiedAt?: number;
  /** The checksum of the version that is to be replaced: refused when another one is there by then. */
  base?: string;
}
export const uploadMetadataSchema = Joi.object<UploadMetadata>({
  folderId: idSchema.when('replaces', { is: Joi.exist(), then: Joi.forbidden(), otherwise: Joi.required() }),
  // Judged by the rules for names and depth where it is recorded.
  path: Joi.string().max(4000).allow(''),
  replaces: idSchema,
  name: Joi.string().max(2000).allow('').required(),
  conflict: conflictSchema.default('refuse'),
  modifiedAt: modifiedAtSchema,
  base: Joi.string().pattern(/^[0-9a-f]{64}$/),
});

/** An upload that has begun and not ended. */
export interface OpenUpload {
  id: string;
  folderId: string;
  folderName: string;
  name: string;
  sizeBytes: number;
  offsetBytes: number;
  touchedAt: string;
  /** When what has arrived is removed if nothing more comes. */
  removedAt: string;
}

export const batchQuerySchema = Joi.object<{ batchId: string; conflict: ConflictChoice }>({
  batchId: idSchema.required(),
  conflict: conflictSchema.default('refuse'),
});
export const finishSchema = Joi.object<{ conflict: ConflictChoice }>({ conflict: conflictSchema.required() });
/** One entry of a batch, in the order of the archive: what was kept, or why not. */
export type BatchEntry = { path: string; answer: UploadAnswer } | { path: string; code: string; words: string };
export interface BatchAnswer {
  entries: BatchEntry[];
}

export interface Task {
  id: string;
  kind: 'import' | 'export' | 'scrub' | 'backup' | 'rehearsal';
  state: 'waiting' | 'running' | 'done' | 'failed' | 'stopped';
  askedBy: string | null;
  /** What it is about, in words. */
  title: string;
  progress: { done: number; total: number | null; bytes: number; words: string };
  report: TaskReport | null;
  createdAt: string;
  endedAt: string | null;
}
export interface TaskReport {
  words: string;
  files: number;
  bytes: number;
  verified: number;
  /** What was left out or changed, each with the reason; at most a thousand. */
  notes: { path: string; why: string }[];
}
export interface ServerFolder {
  path: string;
  roots: string[];
  folders: string[];
  files: number;
}
export const browseSchema = Joi.object<{ path?: string }>({ path: Joi.string().max(4096) });
export interface AskImport {
  path: string;
  folderId: string;
}
export const importSchema = Joi.object<AskImport>({
  path: Joi.string().max(4096).required(),
  folderId: idSchema.required(),
});
export const exportSchema = Joi.object<{ storeId: string }>({ storeId: idSchema.required() });
