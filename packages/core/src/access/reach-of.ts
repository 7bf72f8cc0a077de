import type { Instant } from '../text/when.js';
import { effectiveAccess, type EffectiveAccess, type FolderFact, type StoreFact } from './effective.js';
import type { Asker } from './subjects.js';

/** A folder with facts of its own (a root), and the nearest such folder above it; a store's own folder has none. */
export interface RootFolder extends FolderFact {
  above: string | null;
  store: StoreFact;
}

/** The folder with facts and those above it, as {@link effectiveAccess} takes them. */
export function chainOf(roots: ReadonlyMap<string, RootFolder>, id: string): RootFolder[] {
  const chain: RootFolder[] = [];
  for (let next: string | null = id; next !== null;) {
    const folder: RootFolder | undefined = roots.get(next);
    if (!folder || chain.includes(folder)) break;
    chain.push(folder);
    next = folder.above;
  }
  return chain;
}

export interface WhoReaches {
  personId: string;
  access: EffectiveAccess;
}

/** Everybody who may do anything in a folder at a moment, who may most first. */
export function whoCanReach(
  chain: readonly FolderFact[],
  store: StoreFact,
  askers: readonly Asker[],
  at: Instant,
): WhoReaches[] {
  return askers
    .map((asker) => ({ personId: asker.personId, access: effectiveAccess(chain, store, asker, at) }))
    .filter(({ access }) => access.own.length > 0)
    .sort((a, b) => b.access.acts.length - a.access.acts.length || b.access.own.length - a.access.own.length);
}

export interface WhatIsReached {
  folderId: string;
  access: EffectiveAccess;
}

/**
 * Every folder from which on somebody may do something else than in the folder above it: where their access begins,
 * where it is more, and where it ends.
 */
export function whatCanReach(roots: ReadonlyMap<string, RootFolder>, asker: Asker, at: Instant): WhatIsReached[] {
  const reached = new Map<string, EffectiveAccess>();
  const accessOf = (root: RootFolder): EffectiveAccess => {
    const known = reached.get(root.id);
    if (known) return known;
    const made = effectiveAccess(chainOf(roots, root.id), root.store, asker, at);
    reached.set(root.id, made);
    return made;
  };
  return [...roots.values()].flatMap((root) => {
    const access = accessOf(root);
    const above = root.above === null ? null : roots.get(root.above);
    return acts(access) === (above ? acts(accessOf(above)) : acts(null)) ? [] : [{ folderId: root.id, access }];
  });
}

const acts = (access: EffectiveAccess | null): string => `${access?.acts.join() ?? ''} ${access?.own.join() ?? ''}`;
