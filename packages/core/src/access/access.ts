/** Each level includes those before it. `contribute` adds files; whether others' files are seen is the folder's rule. */
export const ACCESS_LEVELS = ['view', 'download', 'contribute', 'edit', 'manage'] as const;
export type AccessLevel = (typeof ACCESS_LEVELS)[number];

/** Whether a level is at least the one that is needed; null is no access at all. */
export function includes(level: AccessLevel | null, needed: AccessLevel): boolean {
  return level !== null && ACCESS_LEVELS.indexOf(level) >= ACCESS_LEVELS.indexOf(needed);
}

/** The highest of several levels; null when there is none. */
export function highest(levels: readonly AccessLevel[]): AccessLevel | null {
  return levels.reduce<AccessLevel | null>((best, level) => (includes(best, level) ? best : level), null);
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

/** Who is asking, as far as access depends on it. */
export interface Subject {
  personId: string;
  role: Role;
  groupIds: readonly string[];
}

/** A person's or group's level on a store; both null: all staff. */
export interface Grant {
  personId: string | null;
  groupId: string | null;
  level: AccessLevel;
}

/**
 * The level somebody has on a store: the owner manages a home store and nobody else reaches it, the admin included;
 * elsewhere the admin manages, and for staff the highest of their own grants, their groups' and those for all staff wins.
 */
export function storeLevel(
  subject: Subject,
  store: { kind: StoreKind; ownerId: string | null },
  grants: readonly Grant[],
): AccessLevel | null {
  if (store.kind === 'home') return store.ownerId === subject.personId ? 'manage' : null;
  if (subject.role === 'admin' && store.kind === 'common') return 'manage';
  const applies = (g: Grant) =>
    (g.personId === null && g.groupId === null) ||
    g.personId === subject.personId ||
    (g.groupId !== null && subject.groupIds.includes(g.groupId));
  return highest(grants.filter(applies).map((g) => g.level));
}
