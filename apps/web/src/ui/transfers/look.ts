import { FILES_CHECKED, type CheckAnswer } from '@quay/contract';
import { api, ApiProblem } from '../api';
import { retryable } from './engine';
import type { Fault, Transfer } from './machine';

export interface LookedAt {
  /** What is refused by itself, by the id of the transfer. */
  refused: Map<number, Fault>;
  /** Those whose names are taken. */
  taken: Set<number>;
  /** What stands against all of them. */
  all: Fault | null;
}

/**
 * Looks at everything before it is sent: what is refused by itself, what is taken, whether there is room for all.
 */
export async function lookAt(folderId: string, added: readonly Transfer[]): Promise<LookedAt> {
  const found: LookedAt = { refused: new Map(), taken: new Set(), all: null };
  const totalBytes = added.reduce((sum, t) => sum + t.sizeBytes, 0);
  try {
    for (let from = 0; from < added.length && !found.all; from += FILES_CHECKED) {
      const part = added.slice(from, from + FILES_CHECKED);
      const answer = await api<CheckAnswer>('POST', `/api/folders/${folderId}/check-files`, {
        files: part.map((t) => ({ name: t.name, sizeBytes: t.sizeBytes })),
        totalBytes,
      });
      for (const fault of answer.faults) found.refused.set((part[fault.index] as Transfer).id, fault);
      for (const t of answer.taken.map((index) => part[index] as Transfer))
        if (t.below.length === 0) found.taken.add(t.id);
      found.all = answer.room;
    }
  } catch (error) {
    const problem = error as ApiProblem;
    // The server being away is no refusal: what it would have said is said when the files arrive.
    if (!retryable(problem.status)) found.all = { code: problem.code, words: problem.message };
  }
  return found;
}
