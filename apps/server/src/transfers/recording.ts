import { PATH_FAULT_WORDS, pathFault, utf8Bytes, type PathExtent } from '@quay/core';
import type { ConflictChoice } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import type { StagedBlob } from '../platform/blobs/blob-store.js';
import { invalidField, type Problem } from '../platform/problems/problem.js';
import { lockNodes, lockNodeShared } from '../stores/branch.queries.js';

/** Bytes that are kept, and where they go. */
export interface PlacedBytes {
  /** Folders below the one that was named, made where they are not there. */
  below: string[];
  name: string;
  modifiedAt: Date | null;
  blob: Pick<StagedBlob, 'sha256' | 'sizeBytes'>;
}

/** Bytes that have arrived and are to be kept. */
export interface Arrived extends PlacedBytes {
  blob: StagedBlob;
}

export interface Recording {
  folderId: string;
  conflict: ConflictChoice;
  /** When the upload began: what took the name since then was faster, and both are kept. */
  beganAt: Date;
  /** The version that is to be replaced, by the SHA-256 of its bytes: where another one is there by then, it is not. */
  base?: Buffer | null;
  /** The file that gets another version, whatever it is called; left out: what has that name. */
  replaces?: string | null;
}

/** Whether others may bring something into the same folder meanwhile. */
export type LockMode = 'shared' | 'alone';

/**
 * A folder locked until the transaction ends, so that it cannot be trashed meanwhile, and what was decided about it then.
 */
export async function admitLocked(
  tx: EntityManager,
  by: Bringer,
  folderId: string,
  lock: LockMode,
): Promise<FolderAdmission> {
  await (lock === 'alone' ? lockNodes(tx, [folderId]) : lockNodeShared(tx, folderId));
  return by.admit(folderId, tx);
}

/** Why names one below the other go too deep from there; null when they do not. */
export function depthProblem(from: PathExtent, names: readonly string[]): Problem | null {
  const bytes = from.bytes + names.reduce((sum, name) => sum + utf8Bytes(name).length + 1, 0) - 1;
  const fault = pathFault({ levels: from.levels + names.length, bytes });
  return fault && invalidField('name', fault, PATH_FAULT_WORDS[fault]);
}
