/** Named sets of acts (acts.ts), and no rungs of a ladder: what contributors see of others is the folder's rule. */
export const ACCESS_LEVELS = ['view', 'download', 'contribute', 'edit', 'manage'] as const;
export type AccessLevel = (typeof ACCESS_LEVELS)[number];

export const LEVEL_WORDS: Record<AccessLevel, string> = {
  view: 'can view',
  download: 'can download',
  contribute: 'can add files',
  edit: 'can edit',
  manage: 'can manage',
};

/** A level with the folder that it is on: "can add files to Mill Lane". */
export const levelOn = (level: AccessLevel, folder: string): string =>
  `${LEVEL_WORDS[level]}${level === 'contribute' ? ' to' : ''} ${folder}`;

export type StoreKind = 'home' | 'common' | 'sealed';
