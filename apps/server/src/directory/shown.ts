import { directoryChangeWords } from '@quay/core';
import type { DirectoryRun, DirectoryRunSheet } from '@quay/contract';
import type { RunHead, RunRecord } from './directory.queries.js';

export function shownRun({
  id,
  at,
  by,
  state,
  words,
  asks,
  done,
  total,
}: Omit<RunRecord, 'plan' | 'asked'>): DirectoryRun {
  return { id, at: at.toISOString(), by, state, words, asks, done, total };
}

export function runSheet({ shown, ...record }: RunHead): DirectoryRunSheet {
  const { changes = [], kept = [] } = shown ?? {};
  return {
    ...shownRun(record),
    changes: changes.map((c) => ({ kind: c.kind, words: directoryChangeWords(c) })),
    kept,
  };
}
