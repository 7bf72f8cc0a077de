/** By what a list of shares can be narrowed, besides their state. */
export const SHARE_FACETS = ['never-opened', 'closes-in-a-week', 'no-end', 'no-password', 'brings-files'] as const;
export type ShareFacet = (typeof SHARE_FACETS)[number];

export const FACET_WORDS: Record<ShareFacet, string> = {
  'never-opened': 'never opened',
  'closes-in-a-week': 'closing within a week',
  'no-end': 'without an end',
  'no-password': 'without a password',
  'brings-files': 'taking files in',
};

/** What a list of shares shows of each besides its state, title, window and visits. */
export const SHARE_COLUMNS = ['guards', 'reach', 'items', 'size', 'visited', 'by'] as const;
export type ShareColumn = (typeof SHARE_COLUMNS)[number];

export const COLUMN_WORDS: Record<ShareColumn, string> = {
  guards: 'Guards',
  reach: 'Reach',
  items: 'Items',
  size: 'Size',
  visited: 'Last visit',
  by: 'By',
};

export const CLOSES_IN_A_WEEK_MS = 7 * 86_400_000;
