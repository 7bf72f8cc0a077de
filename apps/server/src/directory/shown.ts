import { directoryChangeWords } from '@quay/core';
import { RUN_LINES_SHOWN, type DirectoryRun, type DirectoryRunSheet } from '@quay/contract';
import type { RunRecord } from './directory.queries.js';

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

export function runSheet(record: RunRecord): DirectoryRunSheet {
  const { changes = [], kept = [] } = record.plan ?? {};
  return {
    ...shownRun(record),
    changes: changes.slice(0, RUN_LINES_SHOWN).map((c) => ({ kind: c.kind, words: directoryChangeWords(c) })),
    kept: kept.slice(0, RUN_LINES_SHOWN),
  };
}
