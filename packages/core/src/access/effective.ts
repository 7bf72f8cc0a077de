import type { Instant } from '../text/when.js';
import type { AccessLevel } from './access.js';
import { actsInOrder, actsOf, ARCHIVED_ACTS, type Act, type LevelActs, type OthersRule } from './acts.js';
import { boundariesAfter, holdsAt, type Period } from './period.js';
import { isGuestAt, type Asker } from './subjects.js';

export type GrantSubject = { kind: 'person' | 'group'; id: string } | { kind: 'staff' };

/** Somebody's level on a folder and on everything in it, for a time. What was ended early ends then. */
export interface GrantFact extends Period {
  id: string;
  subject: GrantSubject;
  level: AccessLevel;
}

/** What of a folder access depends on; everything dated. */
export interface FolderFact {
  id: string;
  grants: readonly GrantFact[];
  /** When it takes nothing over from the folders above it. */
  stops: readonly Period[];
  /** Its own rule for what contributors see of others, where it has one. */
  others: readonly (Period & { rule: OthersRule })[];
}

/** The store that a folder lies in. */
export interface StoreFact {
  kind: 'home' | 'common' | 'sealed';
  /** Of a home: whose it was, and when. */
  owners: readonly (Period & { personId: string })[];
  /** When it is archived: everything in it is looked at, published and granted as before, and nothing changes. */
  archived: readonly Period[];
}

/** Why somebody may do something. */
export interface Reason {
  kind: 'grant' | 'owner' | 'admin';
  folderId: string;
  grantId: string | null;
  /** For a group's grant: the groups it is through, the person's own first. */
  through: string[];
  level: AccessLevel;
  acts: Act[];
  own: Act[];
}

export interface EffectiveAccess {
  /** On everything in the folder. */
  acts: Act[];
  /** On what they have brought themselves and nobody has accepted yet; everything in `acts` is in here too. */
  own: Act[];
  /** The next moment at which the answer is another one, as far as is known; null: there is none. */
  validUntil: Instant | null;
  because: Reason[];
  /** The folder that takes nothing over, where the way up ended there; whatever is granted above it does not count. */
  stoppedAt: string | null;
}

/**
 * What somebody may do in a folder at a moment: the union of all reasons on the way up, up to and including the first
 * folder that takes nothing over. Grants further down never lessen it.
 * @param chain the folder and those above it as they lay at that moment, the folder first, the store's own folder last
 */
export function effectiveAccess(
  chain: readonly FolderFact[],
  store: StoreFact,
  asker: Asker,
  at: Instant,
): EffectiveAccess {
  const now = decided(chain, store, asker, at);
  const is = fingerprint(now);
  const changes = boundariesAfter(spansOf(chain, store, asker), at);
  const validUntil = changes.find((moment) => fingerprint(decided(chain, store, asker, moment)) !== is) ?? null;
  return { ...now, validUntil };
}

type Decided = Omit<EffectiveAccess, 'validUntil'>;

function decided(chain: readonly FolderFact[], store: StoreFact, asker: Asker, at: Instant): Decided {
  const counted = countedOf(chain, at);
  const last = counted.at(-1);
  const reasons = asker.account.some((s) => holdsAt(s, at))
    ? [
        ...(store.kind === 'home' ? [] : grantReasons(counted, asker, at)),
        ...standingReasons(chain, counted, store, asker, at),
      ]
    : [];
  const because = isArchived(store, at) ? reasons.map(withoutChanges) : reasons;
  return {
    acts: actsInOrder(because.flatMap((r) => r.acts)),
    own: actsInOrder(because.flatMap((r) => [...r.acts, ...r.own])),
    because,
    stoppedAt: counted.length === chain.length ? null : (last?.id ?? null),
  };
}

export const isArchived = (store: StoreFact, at: Instant): boolean => store.archived.some((s) => holdsAt(s, at));

const withoutChanges = (of: Reason): Reason => ({
  ...of,
  acts: of.acts.filter((act) => ARCHIVED_ACTS.includes(act)),
  own: of.own.filter((act) => ARCHIVED_ACTS.includes(act)),
});

function grantReasons(counted: readonly FolderFact[], asker: Asker, at: Instant): Reason[] {
  const others = othersRule(counted, at);
  return counted.flatMap((folder) =>
    folder.grants.flatMap((grant): Reason[] => {
      const through = holdsAt(grant, at) ? throughWhich(grant.subject, asker, at) : null;
      if (!through) return [];
      const { all, own } = actsOf(grant.level, others);
      return [{ ...reason('grant', folder.id, grant.level, { all, own }), grantId: grant.id, through }];
    }),
  );
}

/** The nearest rule for contributors that counts on the way up to the first folder that takes nothing over. */
export function othersRuleAt(chain: readonly FolderFact[], at: Instant): OthersRule {
  return othersRule(countedOf(chain, at), at);
}

/** The folder and those above it whose grants and rules count in it: up to the first that takes nothing over. */
export function countedOf<Folder extends FolderFact>(chain: readonly Folder[], at: Instant): Folder[] {
  const stop = chain.findIndex((folder) => folder.stops.some((s) => holdsAt(s, at)));
  return stop === -1 ? [...chain] : chain.slice(0, stop + 1);
}

/** The nearest rule on the way up. Where none was ever made, contributors see only what they brought. */
function othersRule(counted: readonly FolderFact[], at: Instant): OthersRule {
  for (const folder of counted) {
    const own = folder.others.find((s) => holdsAt(s, at));
    if (own) return own.rule;
  }
  return 'nothing';
}

/** The groups by which a grant is the asker's, none for their own and everybody's; null when it is not theirs. */
function throughWhich(subject: GrantSubject, asker: Asker, at: Instant): string[] | null {
  if (subject.kind === 'staff') return isGuestAt(asker, at) ? null : [];
  if (subject.kind === 'person') return subject.id === asker.personId ? [] : null;
  const ways = asker.groups.filter((g) => g.groupId === subject.id && holdsAt(g, at));
  // The shortest way explains most.
  return ways.sort((a, b) => a.through.length - b.through.length)[0]?.through ?? null;
}

/**
 * What is nobody's grant: a home is its owner's, and a common store is the admin's; past a stop, only its grants are.
 */
function standingReasons(
  chain: readonly FolderFact[],
  counted: readonly FolderFact[],
  store: StoreFact,
  asker: Asker,
  at: Instant,
): Reason[] {
  const top = chain.at(-1)?.id as string;
  const all = actsOf('manage', 'read');
  if (store.kind === 'home')
    return store.owners.some((o) => o.personId === asker.personId && holdsAt(o, at))
      ? [reason('owner', top, 'manage', all)]
      : [];
  if (store.kind !== 'common' || !asker.admin.some((s) => holdsAt(s, at))) return [];
  const whole = counted.length === chain.length;
  return [reason('admin', top, 'manage', whole ? all : { all: ['manage'], own: ['manage'] })];
}

const reason = (kind: Reason['kind'], folderId: string, level: AccessLevel, { all, own }: LevelActs): Reason => ({
  kind,
  folderId,
  grantId: null,
  through: [],
  level,
  acts: [...all],
  own: [...own],
});

function* spansOf(chain: readonly FolderFact[], store: StoreFact, asker: Asker): Generator<Period> {
  yield* asker.account;
  yield* asker.admin;
  yield* asker.guest;
  yield* asker.groups;
  yield* store.owners;
  yield* store.archived;
  for (const folder of chain) {
    yield* folder.grants;
    yield* folder.stops;
    yield* folder.others;
  }
}

/** Two answers with the same acts are the same to whoever keeps one of them. */
const fingerprint = ({ acts, own }: Decided): string => `${acts.join()} ${own.join()}`;
