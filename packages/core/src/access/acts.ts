import type { AccessLevel } from './access.js';

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
 * What a level lets somebody do in a folder with this rule for contributors. A level is a named set of acts and no rung of
 * a ladder: `contribute` does not hold what `download` holds.
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

/** The acts in their order, each once. */
export const actsInOrder = (acts: Iterable<Act>): Act[] => {
  const present = new Set(acts);
  return ACTS.filter((act) => present.has(act));
};
