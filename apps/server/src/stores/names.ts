import type { Actor } from '@quay/core';
import { lookup } from 'mime-types';
import type { Who } from '../people/who.js';
import { invalidField, Problem } from '../platform/problems/problem.js';

export const actorOf = (who: Who): Actor => ({
  kind: who.role === 'guest' ? 'guest' : 'person',
  id: who.personId,
  name: who.name,
});

/** What a file is taken for, by its name. */
export const mediaTypeOf = (name: string): string => lookup(name) || 'application/octet-stream';

export function nameTaken(name: string): Problem {
  const problem = invalidField('name', 'name.taken', `There is something called "${name}" here already.`);
  return new Problem('conflict', 'name.taken', problem.message, { errors: problem.more.errors, name });
}

/** Runs a write; a broken unique name is told as such. */
export async function uniqueName<T>(name: string, write: () => Promise<T>): Promise<T> {
  try {
    return await write();
  } catch (error) {
    if (codeOf(error) === UNIQUE_VIOLATION) throw nameTaken(name);
    throw error;
  }
}

const codeOf = (error: unknown): string | undefined => (error as { driverError?: { code?: string } }).driverError?.code;

// PostgreSQL, Appendix A.
const UNIQUE_VIOLATION = '23505';
const DEADLOCK = '40P01';

/** Whether a transaction ended because somebody else did the same at that moment: it can be tried again. */
export const lostRace = (error: unknown): boolean => [UNIQUE_VIOLATION, DEADLOCK].includes(codeOf(error) ?? '');
