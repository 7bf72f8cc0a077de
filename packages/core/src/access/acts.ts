import { ACCESS_LEVELS, type AccessLevel } from './access.js';

/** What somebody may do with what lies in a folder. Rules ask for acts; screens show levels. */
export const ACTS = ['see', 'read', 'add', 'change', 'remove', 'publish', 'manage'] as const;
/** `see`: names and previews; `read`: bytes; `manage`: grants, rules and removing for good. */
export type Act = (typeof ACTS)[number];

/** What contributors may do with what others brought: the folder's rule, inherited downwards. */
export const OTHERS_RULES = ['nothing', 'see', 'read'] as const;
export type OthersRule = (typeof OTHERS_RULES)[number];

/** Acts on everything, and acts on what one has brought oneself, until somebody accepts it. */
export interface LevelActs {
  all: readonly Act[];
  own: readonly Act[];
}

const OTHERS_ACTS: Record<OthersRule, readonly Act[]> = { nothing: [], see: ['see'], read: ['see', 'read'] };
const EVERYTHING_BUT_MANAGE = ACTS.filter((act) => act !== 'manage');

/**
 * What a level lets somebody do in a folder with this rule for contributors. A level is a named set of acts and no
 * rung of a ladder: `contribute` does not hold what `download` holds.
 */
export function actsOf(level: AccessLevel, others: OthersRule): LevelActs {
  switch (level) {
    case 'view':
      return { all: ['see'], own: ['see'] };
    case 'download':
      return { all: ['see', 'read'], own: ['see', 'read'] };
    case 'contribute':
      return { all: [...OTHERS_ACTS[others], 'add'], own: ['see', 'read', 'add', 'change', 'remove'] };
    case 'edit':
      return { all: EVERYTHING_BUT_MANAGE, own: EVERYTHING_BUT_MANAGE };
    case 'manage':
      return { all: ACTS, own: ACTS };
  }
}

/** What can still be done in a store that is archived: nothing that adds, changes or throws away. */
export const ARCHIVED_ACTS: readonly Act[] = ['see', 'read', 'publish', 'manage'];

/** The acts in their order, each once. */
export const actsInOrder = (acts: Iterable<Act>): Act[] => {
  const present = new Set(acts);
  return ACTS.filter((act) => present.has(act));
};

/** Acts as one number, a bit for each in the order of {@link ACTS}: how a database keeps and compares them. */
export const actBits = (acts: Iterable<Act>): number => {
  let bits = 0;
  for (const act of acts) bits |= 1 << ACTS.indexOf(act);
  return bits;
};

export const actsOfBits = (bits: number): Act[] => ACTS.filter((_, i) => (bits & (1 << i)) !== 0);

/** The least that somebody must be granted to do this: what a refusal names. */
export const LEVEL_FOR_ACT: Record<Act, AccessLevel> = {
  see: 'view',
  read: 'download',
  add: 'contribute',
  change: 'edit',
  remove: 'edit',
  publish: 'edit',
  manage: 'manage',
};

/** The act by which a level is told from the others. */
const SIGN_OF_LEVEL: Record<AccessLevel, Act> = {
  view: 'see',
  download: 'read',
  contribute: 'add',
  edit: 'change',
  manage: 'manage',
};

/** The level that says best what these acts are; null where there is none to show. */
export function levelOfActs(acts: readonly Act[]): AccessLevel | null {
  const best = [...ACCESS_LEVELS].reverse().find((level) => acts.includes(SIGN_OF_LEVEL[level]));
  return best === 'manage' && !acts.includes('see') ? null : (best ?? null);
}
