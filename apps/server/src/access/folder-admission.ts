import type { Act, Actor } from '@quay/core';
import type { QuayEvent, UploadAnswer } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import type { NewEntry } from '../ledger/ledger.service.js';

/** That somebody may bring something into a folder, as decided at one moment. */
export interface FolderAdmission {
  folderId: string;
  storeId: string;
  folderName: string;
  actor: Actor & { id: string };
  /** The person whose quota it counts against. */
  chargedTo: string;
  acts: readonly Act[];
  /** With what they brought themselves. */
  own: readonly Act[];
  /** When it ends by itself; null: never by itself. */
  validUntil: Date | null;
}

/**
 * Whoever brings something. The capability that let them in decides about each folder, each time anew: before the first
 * byte, at each piece, and within the transaction that writes it down.
 */
export interface Bringer {
  actor: Actor & { id: string };
  chargedTo: string;
  /** @throws Problem not-found, forbidden; node.trashed for a folder in the trash, unless it is said that it may be */
  admit: (folderId: string, m?: EntityManager, how?: { trashedToo: boolean }) => Promise<FolderAdmission>;
  /** The same of one file alone that is to get another version; left out: by its folder and its name. */
  admitReplacing?: (nodeId: string, m?: EntityManager, how?: { trashedToo: boolean }) => Promise<FolderAdmission>;
  sees: (nodeId: string, m: EntityManager) => Promise<boolean>;
  /** @throws Problem access.level when this item is not theirs to replace */
  requireChange: (nodeId: string, m: EntityManager) => Promise<void>;
  /** Whether an event could have changed what they may; left out: those of access. */
  wakes?: (event: QuayEvent) => boolean;
  /** The share through which they bring it. */
  shareId?: string;
  /**
   * Within the transaction that writes a file down: what else is to be kept of it, and how the ledger tells of it; left
   * out: as of somebody with an account.
   */
  writes?: (tx: EntityManager, kept: UploadAnswer) => Promise<Pick<NewEntry, 'kind' | 'shareId' | 'detail'>>;
}
