import { formatSize } from '../text/size.js';
import { isWelcome, kindOfName, type LookedAt } from './content.js';
import { kindsWords, type ContentKind } from './limits.js';

/** What goes straight into the folder; the rest waits. */
export interface StraightIn {
  /** Null: any kind. */
  kinds: readonly ContentKind[] | null;
  /** Of one file, at most; null: whatever the intake takes. */
  fileBytes: number | null;
  /** Only from those who have proven who they are. */
  provenOnly: boolean;
}

/** A file that was handed in, as it is judged. */
export interface HandedFile extends LookedAt {
  path: string;
  sizeBytes: number;
}

/**
 * Whether a deposit goes in without anybody having looked at it: all of it, or none.
 * @param rule null: everything goes that is what its name says
 * @param proven whether whoever handed it in has proven who they are
 */
export function goesStraightIn(
  rule: StraightIn | null,
  files: readonly HandedFile[],
  { proven, hasScanner }: { proven: boolean; hasScanner: boolean },
): boolean {
  if (!files.every((file) => isWelcome(file, hasScanner))) return false;
  if (rule === null) return true;
  if (rule.provenOnly && !proven) return false;
  return files.every(({ path, sizeBytes }) => {
    const kind = kindOfName(path.split('/').at(-1) ?? '');
    const isOfKind = rule.kinds === null || (kind !== null && rule.kinds.includes(kind));
    return isOfKind && (rule.fileBytes === null || sizeBytes <= rule.fileBytes);
  });
}

/** What goes straight in: "PDF of at most 50 MB from those who have proven who they are"; everything where there is no rule. */
export function straightWords(rule: StraightIn | null): string {
  if (rule === null) return 'everything';
  const { kinds, fileBytes, provenOnly } = rule;
  return [
    kinds === null ? 'files' : kindsWords(kinds),
    ...(fileBytes === null ? [] : [`of at most ${formatSize(fileBytes)}`]),
    ...(provenOnly ? ['from those who have proven who they are'] : []),
  ].join(' ');
}

/** What is wrong with a rule, in words; null: nothing. */
export function straightFault({ kinds, fileBytes, provenOnly }: StraightIn): string | null {
  if (kinds?.length === 0) return 'Choose at least one kind of content, or any.';
  if (kinds === null && fileBytes === null && !provenOnly) return 'Say what goes straight in, or let everything.';
  return null;
}
