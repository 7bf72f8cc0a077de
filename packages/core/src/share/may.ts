import { actsOf, type LevelActs } from '../access/acts.js';
import { countOf } from '../text/size.js';
import type { Watermark } from './watermark.js';

/** What a share lets visitors do: the access levels without `manage`, which is for people of the office. */
export const SHARE_LEVELS = ['view', 'download', 'contribute', 'edit'] as const;
export type ShareLevel = (typeof SHARE_LEVELS)[number];

export interface ShareMay {
  level: ShareLevel;
  /** Of `contribute`: whether they see and take what is there, and what others bring. */
  seesOthers: boolean;
  /** Of `contribute` and `edit`: so many bytes are taken in, all visits together. */
  takesBytes: number;
  /** Whether what they take is marked for each of them; what they look at under `view` always is. */
  watermark: Watermark;
  /** So many visits may take each file; null: any number. */
  fileLimit: number | null;
}

/** As long as nobody chooses: nothing is brought, everything is taken. */
export const MAY_DOWNLOAD: ShareMay = {
  ...{ level: 'download', seesOthers: true, takesBytes: 5_000_000_000 },
  ...{ watermark: 'none', fileLimit: null },
};

/** The least and most bytes that a share can be told to take in. */
export const TAKES_BYTES_RANGE = { min: 1_000_000, max: 10_000_000_000_000 } as const;
/** Files that are taken together by their names: as many as fit into a line of a request (8 kB, common practice). */
export const MOST_PICKED = 150;
/** Uploads of one visit that have begun and not ended. */
export const UPLOADS_OPEN_PER_VISIT = 50;
/** Uploads that one source may begin in a minute. */
export const UPLOADS_PER_MINUTE = 300;

export const SHARE_LEVEL_WORDS: Record<ShareLevel, string> = {
  view: 'Look only',
  download: 'Download',
  contribute: 'Add files',
  edit: 'Add and replace',
};

/** Whether visitors may bring something. */
export const bringsFiles = ({ level }: Pick<ShareMay, 'level'>): boolean => level === 'contribute' || level === 'edit';

/**
 * What visitors may do with what is in a share, and with what they brought themselves until somebody else has put
 * another version there (access.md). Nobody who holds a link removes what others brought.
 */
export function visitorActs({ level, seesOthers }: ShareMay): LevelActs {
  const { all, own } = actsOf(level, seesOthers ? 'read' : 'nothing');
  const kept = all.filter((act) => act !== 'publish' && act !== 'remove');
  return { all: kept, own: own.filter((act) => act !== 'publish') };
}

/** Whether files are taken at all, so that it matters how often. */
export const givesFiles = (may: Pick<ShareMay, 'level' | 'seesOthers'>): boolean =>
  may.level !== 'view' && (may.level !== 'contribute' || may.seesOthers);

/** Where nothing could be brought, though it may be; null: it can. An empty share is filled later. */
export function nowhereToAdd(
  { level }: Pick<ShareMay, 'level'>,
  items: readonly { kind: 'folder' | 'file'; frozen: boolean }[],
): string | null {
  if (!bringsFiles({ level }) || items.length === 0) return null;
  if (items.some((item) => !item.frozen && (item.kind === 'folder' || level === 'edit'))) return null;
  return level === 'edit'
    ? 'Everything in it is frozen: nothing could be added or replaced. Share it as it is at the time.'
    : 'There is no folder in it that files could be added to. Share the folder that they lie in, and do not freeze it.';
}

const MARKED_WORDS = {
  'others-plain': 'pictures and PDF marked for whoever takes them',
  'others-withheld': 'pictures and PDF alone, marked for whoever takes them',
} as const;

/**
 * What the sentence says they may do.
 * @returns the verb, and what must be said of seeing; null: nothing
 */
export function mayWords({ level, seesOthers, watermark, fileLimit }: ShareMay): { verb: string; but: string | null } {
  const marked = watermark === 'none' ? null : MARKED_WORDS[watermark];
  const often = fileLimit === null ? null : `each file in at most ${countOf(fileLimit, 'visit')}`;
  const but = [marked, often].filter((words) => words !== null).join(', ') || null;
  switch (level) {
    case 'view':
      return { verb: 'look at', but: 'marked for whoever looks, without taking the files' };
    case 'download':
      return { verb: 'download', but };
    case 'contribute':
      return seesOthers
        ? { verb: 'download and add to', but }
        : { verb: 'add to', but: 'without seeing what is there' };
    case 'edit':
      return { verb: 'download, add to and replace', but };
  }
}
