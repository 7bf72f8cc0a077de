import type { KeptGrant, PersonSheet, PersonThen, ReachedFolder } from '@quay/contract';
import {
  actBits,
  chainOf,
  explainAccess,
  holdsAt,
  isGuestAt,
  levelOfCell,
  onlyManages,
  whatCanReach,
  type AccessLevel,
  type Asker,
  type RootFolder,
  type WhatIsReached,
} from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Office } from '../platform/office.js';
import { loadAskers, loadRoots, loadRootsAt } from './access-facts.js';
import { reachedPlaces } from './access.queries.js';
import { AccessService } from './access.service.js';
import { invalidField, notFound, type Problem } from '../platform/problems/problem.js';
import { groupNames, keptAfterLeaving } from './groups.queries.js';
import { folderNames } from './table.queries.js';

/** @returns a problem: that moment has not come yet */
export const momentToCome = (): Problem => invalidField('at', 'access.future', 'That moment has not come yet.');

const MAY_KNOW = actBits(['see', 'manage']);
const MAY_SAY = actBits(['manage']);

/** What one person reaches, and why, as far as whoever asks may know of it. */
@Injectable()
export class ReachedService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly office: Office,
  ) {}

  async of(who: Who, personId: string): Promise<Pick<PersonSheet, 'through' | 'reaches' | 'hidden'>> {
    const { through, reaches, hidden } = await this.reachedAt(who, personId, null);
    return { through, reaches, hidden };
  }

  /** The same of a moment of the past, by what whoever asks may know of today. @throws Problem access.future */
  async ofMoment(who: Who, personId: string, moment: string): Promise<PersonThen> {
    const at = new Date(moment);
    if (at.getTime() > this.clock.now()) throw momentToCome();
    return { at: at.toISOString(), ...(await this.reachedAt(who, personId, at)) };
  }

  /** @param moment null: now */
  private async reachedAt(who: Who, personId: string, moment: Date | null): Promise<Omit<PersonThen, 'at'>> {
    const m = this.db.manager;
    const now = moment ?? this.clock.date();
    const roots = await (moment === null ? loadRoots(m) : loadRootsAt(m, moment));
    const [asker] = await loadAskers(m, [personId]);
    if (!asker) throw notFound('This person');
    const groups = await groupNames(m);
    const reached = whatCanReach(roots, asker, now.getTime()).filter(({ access }) => access.own.length > 0);
    const ids = [...new Set(reached.flatMap(({ folderId }) => chainOf(roots, folderId).map((f) => f.id)))];
    const known = await this.where(who, ids, MAY_KNOW, moment);
    const names = new Map((await folderNames(m, ids, moment)).map((f) => [f.id, f.name]));
    const { zone } = await this.office.settings();
    const say: Saying = {
      roots,
      asker,
      at: now.getTime(),
      names: {
        folder: (id) => (known.has(id) ? (names.get(id) ?? '') : 'a folder above'),
        group: (id) => groups.get(id) ?? 'a group',
        zone,
      },
    };
    const shown = reached.filter(({ folderId }) => known.has(folderId));
    const held = asker.groups.filter((g) => holdsAt(g, now.getTime()));
    const isUsable = asker.account.some((p) => holdsAt(p, now.getTime()));
    const isAdmin = asker.admin.some((p) => holdsAt(p, now.getTime()));
    const named = (id: string) => ({ id, name: groups.get(id) ?? '' });
    return {
      role: !isUsable ? null : isAdmin ? 'admin' : isGuestAt(asker, now.getTime()) ? 'guest' : 'staff',
      groups: held.filter((g) => g.through.length === 1).map((g) => named(g.groupId)),
      through: held
        .filter((g) => g.through.length > 1)
        .map((g) => ({ group: named(g.groupId), through: g.through.slice(0, -1).map(named) })),
      reaches: shown
        .map((one) => reachedRow(one, say))
        .sort((a, b) => a.path.join('/').localeCompare(b.path.join('/'))),
      // A home is its owner's, and no matter of anybody's.
      hidden: reached.filter(({ folderId }) => !known.has(folderId) && roots.get(folderId)?.store.kind === 'common')
        .length,
    };
  }

  /** What somebody was granted beside a group that they have left since, in folders of which whoever asks may know. */
  async kept(who: Who): Promise<KeptGrant[]> {
    const rows = await keptAfterLeaving(this.db.manager, this.clock.date());
    const ids = rows.map((r) => r.folderId);
    const [known, managed] = [await this.known(who, ids), await this.managed(who, ids)];
    return rows
      .filter((r) => known.has(r.folderId))
      .map((r) => ({
        person: { id: r.personId, name: r.person },
        folder: { id: r.folderId, name: r.folder },
        group: { id: r.groupId, name: r.group },
        grantId: r.grantId,
        level: r.level as AccessLevel,
        until: r.until?.toISOString() ?? null,
        leftAt: r.leftAt.toISOString(),
        canEnd: managed.has(r.folderId),
      }));
  }

  /** Of these folders, those of which somebody may know who reaches them. */
  known(who: Who, ids: string[]): Promise<Set<string>> {
    return this.where(who, ids, MAY_KNOW, null);
  }

  /** Of these folders, those of which somebody may say who reaches them. */
  managed(who: Who, ids: string[]): Promise<Set<string>> {
    return this.where(who, ids, MAY_SAY, null);
  }

  /** @param moment of the past, at which also what is gone by now may be named; null: now */
  private async where(who: Who, ids: string[], bits: number, moment: Date | null): Promise<Set<string>> {
    await this.access.ensure(who);
    const { places } = await reachedPlaces(this.db.manager, who.personId, ids, this.clock.date());
    return new Set(places.filter((p) => (moment !== null || p.live) && (p.bits & bits) !== 0).map((p) => p.id));
  }
}

interface Saying {
  roots: Map<string, RootFolder>;
  asker: Asker;
  at: number;
  names: Parameters<typeof explainAccess>[4];
}

function reachedRow({ folderId, access }: WhatIsReached, { roots, asker, at, names }: Saying): ReachedFolder {
  const chain = chainOf(roots, folderId);
  const { store } = roots.get(folderId) as RootFolder;
  const cell = { acts: actBits(access.acts), own: actBits(access.own) };
  return {
    folderId,
    path: [...chain].reverse().map((f) => names.folder(f.id)),
    level: levelOfCell(cell),
    onlyManages: onlyManages(cell),
    until: access.validUntil === null ? null : new Date(access.validUntil).toISOString(),
    why: explainAccess(chain, store, asker, at, names),
  };
}
