import type { EntityManager } from 'typeorm';
import { LOCKS } from '../platform/locks.js';

/**
 * Takes the access lock until the transaction ends. Shared: by whoever adds or records something, or takes it out of
 * the trash. Alone: by whoever changes who may what, and by whoever moves folders, so that two moves can never put
 * each into the other. It is the first statement of its transaction: whoever held a row before waiting for it could be
 * waited for by the one who has it, and what is read after it is what was committed before.
 */
export async function lockAccess(tx: EntityManager, how: 'shared' | 'alone'): Promise<void> {
  await tx.query(`SELECT pg_advisory_xact_lock${how === 'shared' ? '_shared' : ''}($1)`, [LOCKS.access]);
}
