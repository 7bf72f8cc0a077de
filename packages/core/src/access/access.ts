/** Each level includes those before it. `contribute` adds files; whether others' files are seen is the folder's rule. */
export const ACCESS_LEVELS = ['view', 'download', 'contribute', 'edit', 'manage'] as const;
export type AccessLevel = (typeof ACCESS_LEVELS)[number];

/** Whether a level is at least the one that is needed; null is no access at all. */
export function includes(level: AccessLevel | null, needed: AccessLevel): boolean {
  return level !== null && ACCESS_LEVELS.indexOf(level) >= ACCESS_LEVELS.indexOf(needed);
}

export const LEVEL_WORDS: Record<AccessLevel, string> = {
  view: 'can view',
  download: 'can download',
  contribute: 'can add files',
  edit: 'can edit',
  manage: 'can manage',
};

export type StoreKind = 'home' | 'common' | 'sealed';
export type Role = 'admin' | 'staff';
