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

export const CLOSES_IN_A_WEEK_MS = 7 * 86_400_000;
