import type { Act, Actor } from '@quay/core';
import type { EntityManager } from 'typeorm';

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
  sees: (nodeId: string, m: EntityManager) => Promise<boolean>;
  /** @throws Problem access.level when this item is not theirs to replace */
  requireChange: (nodeId: string, m: EntityManager) => Promise<void>;
}
