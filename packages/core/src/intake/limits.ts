import { countOf, formatSize } from '../text/size.js';

/** Kinds of content that an intake may be kept to. */
export const CONTENT_KINDS = ['picture', 'pdf', 'text', 'drawing', 'office', 'sound', 'film', 'archive'] as const;
export type ContentKind = (typeof CONTENT_KINDS)[number];

export const CONTENT_KIND_WORDS: Record<ContentKind, string> = {
  ...{ picture: 'pictures', pdf: 'PDF', text: 'text and tables', drawing: 'drawings', office: 'office documents' },
  ...{ sound: 'sound', film: 'films', archive: 'archives' },
};

/** What may be handed in, at the most. */
export interface IntakeLimits {
  /** Of one file, in bytes. */
  fileBytes: number;
  /** Files of one contributor, whatever number of deposits they make. */
  files: number;
  /** Bytes of one contributor. */
  contributorBytes: number;
  /** Bytes of all together. */
  allBytes: number;
  /** Null: any content. */
  kinds: readonly ContentKind[] | null;
}

/** What an intake begins with: some photographs, and no disk full of them (invented). */
export const INTAKE_LIMITS: IntakeLimits = {
  ...{ fileBytes: 2e9, files: 200, contributorBytes: 5e9, allBytes: 50e9, kinds: null },
};

/** Days before it closes that those who have handed nothing in are reminded. */
export const REMIND_DAYS = { min: 1, max: 30 } as const;

/** As much as so many contributors may be on its way from one source: an office comes from one address (invented). */
const CONTRIBUTORS_OF_SOURCE = 5;

/** Within which each may be chosen. */
export const INTAKE_RANGES = {
  fileBytes: { min: 1_000, max: 1e12 },
  files: { min: 1, max: 10_000 },
  contributorBytes: { min: 1_000, max: 10e12 },
  allBytes: { min: 1_000, max: 100e12 },
} as const;

/** What there is already. */
export interface HandedIn {
  /** Of this contributor, with what is still arriving. */
  files: number;
  bytes: number;
  /** Of whoever comes from the same source, while it is not handed in. */
  sourceBytes: number;
  /** Of all. */
  allBytes: number;
}

export type IntakeRefusal =
  | 'intake.file-too-large'
  | 'intake.too-many-files'
  | 'intake.too-much'
  | 'intake.source-full'
  | 'intake.full'
  | 'intake.kind';

/**
 * Why a file is not taken, before a byte of it moves; null: it may come.
 * @param file its kind by its name; null: none that is known, which only comes where anything may
 */
export function fileRefusal(
  limits: IntakeLimits,
  before: HandedIn,
  file: { sizeBytes: number; kind: ContentKind | null },
): { code: IntakeRefusal; words: string } | null {
  const { sizeBytes, kind } = file;
  if (sizeBytes > limits.fileBytes)
    return {
      code: 'intake.file-too-large',
      words: `${formatSize(sizeBytes)} is more than a file may have here (${formatSize(limits.fileBytes)}).`,
    };
  if (limits.kinds !== null && (kind === null || !limits.kinds.includes(kind)))
    return { code: 'intake.kind', words: `Only ${kindsWords(limits.kinds)} can be handed in here.` };
  if (before.files + 1 > limits.files)
    return {
      code: 'intake.too-many-files',
      words: `You have handed in ${countOf(before.files, 'file')}, and ${limits.files.toLocaleString('en-GB')} may be.`,
    };
  if (before.bytes + sizeBytes > limits.contributorBytes)
    return {
      code: 'intake.too-much',
      words: `With this it would be ${formatSize(before.bytes + sizeBytes)} from you, and ${formatSize(limits.contributorBytes)} may be.`,
    };
  if (before.sourceBytes + sizeBytes > CONTRIBUTORS_OF_SOURCE * limits.contributorBytes)
    return {
      code: 'intake.source-full',
      words: 'Too much is on its way from where you are. Hand in what has arrived, or wait a while.',
    };
  if (before.allBytes + sizeBytes > limits.allBytes)
    return { code: 'intake.full', words: 'No more fits in here. Whoever asked you for it can make room.' };
  return null;
}

const AND = new Intl.ListFormat('en-GB', { type: 'conjunction' });

export const kindsWords = (kinds: readonly ContentKind[]): string =>
  AND.format(kinds.map((k) => CONTENT_KIND_WORDS[k]));

/** Limits that contradict each other, in words; null: they do not. */
export function limitsFault(limits: IntakeLimits): { field: keyof IntakeLimits; words: string } | null {
  if (limits.kinds !== null && limits.kinds.length === 0)
    return { field: 'kinds', words: 'Choose at least one kind of content, or take any.' };
  if (limits.contributorBytes < limits.fileBytes)
    return { field: 'contributorBytes', words: 'One file could be larger than all that one person may hand in.' };
  if (limits.allBytes < limits.contributorBytes)
    return { field: 'allBytes', words: 'One person could hand in more than all together may.' };
  return null;
}
