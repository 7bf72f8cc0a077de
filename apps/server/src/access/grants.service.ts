import { Injectable } from '@nestjs/common';
import {
  countedOf,
  effectiveAccess,
  explainAccess,
  isGuestAt,
  levelOfActs,
  LEVEL_WORDS,
  momentInWords,
  othersRuleAt,
  whoCanReach,
  type AccessLevel,
  type Asker,
  type EffectiveAccess,
  type Names,
  type OthersRule,
  type RootFolder,
} from '@quay/core';
import type {
  AccessTrial,
  ChangeFolderAccess,
  ExplainQuery,
  Explanation,
  FolderAccess,
  Grantable,
  GrantRow,
  NewGrant,
  Reacher,
  ReplaceGrant,
} from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { loadAskers, loadChain, loadChainAt, loadGroupAskers } from './access-facts.js';
import { lockAccess } from './access-lock.js';
import { seenFolders } from './access.queries.js';
import { AccessService, type Account, type AccessFolder } from './access.service.js';
import {
  closedIn,
  endGrant,
  grantable,
  grantsByIds,
  grantsEndedOn,
  grantsTo,
  grantSubject,
  insertGrant,
  namesOfFolders,
  peopleByIds,
  type StoredGrant,
} from './grants.queries.js';

/** The folders whose facts count in a folder, at a moment. */
interface Looked {
  chain: RootFolder[];
  at: number;
}

/** Grants, stops and rules of folders: made, ended, listed and explained. */
@Injectable()
export class GrantsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
  ) {}

  /** Who reaches a folder, and why. Guests see what they may do themselves. */
  async ofFolder(who: Account, folderId: string): Promise<FolderAccess> {
    const m = this.db.manager;
    const folder = await this.access.requireAccessOf(who, folderId, 'see', m);
    const { chain, at } = await this.look(folder, m);
    const top = chain.at(-1) as RootFolder;
    const manages = folder.acts.includes('manage');
    const names = await this.names(who, chain, folder, manages);
    const shown = who.role !== 'guest' || manages;
    const counted = countedOf(chain, at).flatMap((f) => f.grants.map((g) => g.id));
    const [grants, over] = shown
      ? await Promise.all([grantsByIds(m, counted), grantsEndedOn(m, folderId, new Date(at))])
      : [[], []];
    const row = (g: StoredGrant) => grantRow(g, at, names.seen.get(g.folderId) ?? null);
    return {
      folderId,
      name: folder.name,
      home: top.store.kind === 'home',
      inherits: folder.inherits,
      top: folder.parentId === null,
      othersRule: othersRuleAt(chain, at),
      othersRuleHere: folder.othersRule,
      manages,
      grants: grants.map(row).filter((g) => g.state !== 'over'),
      over: over.map(row),
      people: await this.reachers(who, chain, at, names, shown),
      closed: manages ? await closedIn(m, who.personId, folderId) : [],
    };
  }

  /** What somebody could do there at a moment, and why, or why not. Of others, whoever says who reaches it may ask. */
  async explain(who: Account, folderId: string, query: ExplainQuery): Promise<Explanation> {
    const m = this.db.manager;
    const personId = query.personId ?? query.groupId ?? who.personId;
    const act = personId === who.personId ? 'see' : 'manage';
    const folder = await this.access.requireAccessOf(who, folderId, act, m);
    const at = query.at === undefined ? this.clock.now() : Date.parse(query.at);
    const chain = query.at === undefined ? await loadChain(m, folderId) : await loadChainAt(m, folderId, new Date(at));
    const { asker, name } = await this.askerOf(personId, query.groupId !== undefined);
    if (chain.length === 0) throw invalidField('at', 'access.no-folder', 'The folder was not there at that moment.');
    const names = await this.names(who, chain, folder, folder.acts.includes('manage'));
    const store = (chain.at(-1) as RootFolder).store;
    const access = effectiveAccess(chain, store, asker, at);
    const manages = folder.acts.includes('manage');
    const grants = await grantsByIds(
      m,
      access.because.flatMap((r) => (r.grantId === null ? [] : [r.grantId])),
    );
    return {
      personId,
      name,
      at: new Date(at).toISOString(),
      level: levelOf(access),
      why: explainAccess(chain, store, asker, at, names),
      grants: manages ? grants.map((g) => grantRow(g, at, names.seen.get(g.folderId) ?? null)) : [],
    };
  }

  private async askerOf(id: string, isGroup: boolean): Promise<{ asker: Asker; name: string }> {
    const m = this.db.manager;
    if (isGroup) {
      const [group] = await loadGroupAskers(m, [id]);
      if (!group) throw notFound('This group');
      return group;
    }
    const [[asker], [person]] = [await loadAskers(m, [id]), await peopleByIds(m, [id])];
    if (!asker || !person) throw notFound('This person');
    return { asker, name: person.name };
  }

  /** Whom something can be granted. */
  async grantable(): Promise<Grantable> {
    return grantable(this.db.manager, this.clock.date());
  }

  async grant(who: Account, folderId: string, asked: NewGrant): Promise<FolderAccess> {
    await this.change(who, folderId, this.granting(who, asked));
    return this.ofFolder(who, folderId);
  }

  /** The same within a transaction that does more; asked with the access lock held alone. */
  grantIn(tx: EntityManager, who: Account, folderId: string, asked: NewGrant): Promise<NewEntry[]> {
    return this.changeIn(tx, who, folderId, this.granting(who, asked));
  }

  private granting(who: Account, asked: NewGrant): Work {
    const now = this.clock.date();
    const since = asked.since === undefined ? now : new Date(asked.since);
    const until = untilOf(asked.until, since, now);
    return async (tx, folder) => {
      const subject = await grantSubject(tx, asked.subject, now);
      if (!subject) throw invalidField('subject', 'grant.nobody', 'There is no such person or group any more.');
      const { here } = await this.present(tx, folder);
      if (here.some((g) => g.subject.kind === subject.kind && g.subject.id === subject.id))
        throw new Problem('conflict', 'grant.present', `${subject.name} has a grant here already. Change that one.`);
      await insertGrant(tx, { folderId: folder.id, subject, level: asked.level, since, until, by: who.personId });
      return {
        kind: 'access.granted',
        detail: { ...said(asked.level, until, now, await this.zone()), to: subject.name },
      };
    };
  }

  /** Another level or another end: the grant that is there ends, and a new one begins at that moment. */
  async replace(who: Account, grantId: string, asked: ReplaceGrant): Promise<FolderAccess> {
    const { folderId } = await this.live(who, grantId);
    await this.change(who, folderId, this.replacing(who, grantId, asked));
    return this.ofFolder(who, folderId);
  }

  /** @param asked without an end: that of the old one */
  private replacing(who: Account, grantId: string, asked: { level: AccessLevel; until?: string | null }): Work {
    const now = this.clock.date();
    return async (tx, folder) => {
      const old = (await this.present(tx, folder)).here.find((g) => g.id === grantId);
      if (!old) throw grantOver();
      const since = old.since > now ? old.since : now;
      const until = asked.until === undefined ? old.until : untilOf(asked.until, since, now);
      await endGrant(tx, grantId, now, who.personId);
      await insertGrant(tx, {
        folderId: folder.id,
        subject: old.subject,
        level: asked.level,
        since,
        until,
        by: who.personId,
      });
      return {
        kind: 'access.regranted',
        detail: {
          ...said(asked.level, until, now, await this.zone()),
          to: old.subject.name,
          was: LEVEL_WORDS[old.level],
        },
      };
    };
  }

  async end(who: Account, grantId: string): Promise<FolderAccess> {
    const { folderId } = await this.live(who, grantId);
    await this.change(who, folderId, this.ending(who, grantId));
    return this.ofFolder(who, folderId);
  }

  private ending(who: Account, grantId: string): Work {
    return async (tx, folder) => {
      const old = (await this.present(tx, folder)).here.find((g) => g.id === grantId);
      if (!old) throw grantOver();
      await endGrant(tx, grantId, this.clock.date(), who.personId);
      return { kind: 'access.ended', detail: { to: old.subject.name, level: LEVEL_WORDS[old.level] } };
    };
  }

  /** What was granted to somebody alone, by the folders' names. */
  async ownOf(m: EntityManager, personId: string, at: Date) {
    const grants = await grantsTo(m, personId, at);
    const names = await namesOfFolders(
      m,
      grants.map((g) => g.folderId),
    );
    return grants.map((g) => ({ ...g, folder: { id: g.folderId, name: names.get(g.folderId) ?? '' } }));
  }

  /** Ends all of it, for whoever leaves. Asked with the access lock held alone. */
  async endAllIn(
    tx: EntityManager,
    { personId, by, at }: { personId: string; by: string; at: Date },
  ): Promise<{ folderId: string; level: AccessLevel; until: string | null }[]> {
    const grants = await grantsTo(tx, personId, at);
    for (const g of grants) await endGrant(tx, g.id, at, by);
    return grants.map((g) => ({ folderId: g.folderId, level: g.level, until: g.until?.toISOString() ?? null }));
  }

  /** Takes that back, as far as its time is not over by now. */
  async grantAllIn(
    tx: EntityManager,
    of: {
      personId: string;
      grants: { folderId: string; level: AccessLevel; until: string | null }[];
      by: string;
      at: Date;
    },
  ): Promise<void> {
    const subject = { kind: 'person' as const, id: of.personId };
    for (const { folderId, level, until } of of.grants) {
      const end = until === null ? null : new Date(until);
      if (end === null || end > of.at)
        await insertGrant(tx, { folderId, subject, level, since: of.at, until: end, by: of.by });
    }
  }

  /** Makes a change within a transaction that somebody may take back: only of grants and what a folder takes over. */
  async tryIn(tx: EntityManager, who: Account, trial: AccessTrial): Promise<void> {
    if ('grant' in trial)
      await this.changeIn(tx, who, trial.grant.folderId, this.granting(who, { ...trial.grant, until: null }));
    else if ('inherits' in trial) {
      const { folderId, inherits } = trial.inherits;
      await this.changeIn(tx, who, folderId, (inner, folder) => this.setInherits(inner, who, folder, { inherits }));
    } else if ('replace' in trial || 'end' in trial) {
      const { grantId } = 'replace' in trial ? trial.replace : trial.end;
      const { folderId } = await this.live(who, grantId, tx);
      const work = 'replace' in trial ? this.replacing(who, grantId, trial.replace) : this.ending(who, grantId);
      await this.changeIn(tx, who, folderId, work);
    }
  }

  /** Whether a folder takes over what is granted above it, and its rule for those who may add files. */
  async changeFolder(who: Account, folderId: string, asked: ChangeFolderAccess): Promise<FolderAccess> {
    if (asked.inherits !== undefined)
      await this.change(who, folderId, (tx, folder) => this.setInherits(tx, who, folder, asked));
    if (asked.othersRule !== undefined)
      await this.change(who, folderId, (tx, folder) => this.setRule(tx, folder, asked.othersRule as OthersRule | null));
    return this.ofFolder(who, folderId);
  }

  private async setInherits(tx: EntityManager, who: Account, folder: AccessFolder, asked: ChangeFolderAccess) {
    if (folder.parentId === null)
      throw invalidField('inherits', 'access.top', 'There is nothing above a store that its folder could take over.');
    if (folder.inherits === asked.inherits) return null;
    if (!asked.inherits) await this.begin(tx, who, folder, asked.beginsWith ?? 'as-now');
    await tx.query('UPDATE node SET inherits = $2 WHERE id = $1', [folder.id, asked.inherits]);
    await this.events.tell(tx, { topic: 'node', id: folder.parentId });
    return { kind: asked.inherits ? 'access.opened' : 'access.closed', detail: {} };
  }

  /**
   * Whoever closes a folder and is no admin stays in it: a folder that nobody looks after could not be opened again.
   */
  private async begin(
    tx: EntityManager,
    who: Account,
    folder: AccessFolder,
    beginsWith: NonNullable<ChangeFolderAccess['beginsWith']>,
  ): Promise<void> {
    const now = this.clock.date();
    const { grants, here } = await this.present(tx, folder);
    if (beginsWith === 'as-now')
      for (const g of grants.filter(({ folderId }) => folderId !== folder.id))
        await insertGrant(tx, { ...g, folderId: folder.id, since: g.since > now ? g.since : now, by: who.personId });
    const mine = { kind: 'person', id: who.personId, name: who.name } as const;
    const staysAnyway = who.role === 'admin' && beginsWith === 'nobody';
    if (staysAnyway || (beginsWith === 'as-now' && (await this.managesBy(who, [...here, ...grants])))) return;
    const own = here.find((g) => g.subject.kind === 'person' && g.subject.id === who.personId);
    if (own?.level === 'manage') return;
    if (own) await endGrant(tx, own.id, now, who.personId);
    const by = who.personId;
    await insertGrant(tx, { folderId: folder.id, subject: mine, level: 'manage', since: now, until: null, by });
  }

  /** Whether one of these grants lets somebody manage, by itself and not as the admin. */
  private async managesBy(who: Account, grants: StoredGrant[]): Promise<boolean> {
    const [asker] = await loadAskers(this.db.manager, [who.personId]);
    const now = this.clock.now();
    return grants.some(
      ({ level, subject, until }) =>
        level === 'manage' &&
        until === null &&
        (subject.kind === 'staff'
          ? who.role !== 'guest'
          : subject.kind === 'person'
            ? subject.id === who.personId
            : asker?.groups.some(
                (g) => g.groupId === subject.id && g.since <= now && (g.until === null || g.until > now),
              )),
    );
  }

  private async setRule(tx: EntityManager, folder: AccessFolder, rule: OthersRule | null) {
    if (folder.othersRule === rule) return null;
    await tx.query('UPDATE node SET others_rule = $2 WHERE id = $1', [folder.id, rule]);
    return { kind: 'access.rule', detail: { rule: rule ?? 'as above' } };
  }

  /**
   * One change of who may what in a folder: alone with the access lock, by somebody who may say so at that moment,
   * never in a home; told to everybody, and written down.
   */
  private async change(who: Account, folderId: string, work: Work): Promise<void> {
    await this.events.change(async (tx) => this.ledger.append(tx, ...(await this.changeIn(tx, who, folderId, work))));
  }

  /** @returns what is to be written down of it, which comes last in a transaction */
  private async changeIn(tx: EntityManager, who: Account, folderId: string, work: Work): Promise<NewEntry[]> {
    await lockAccess(tx, 'alone');
    await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [folderId]);
    const folder = await this.access.requireAccessOf(who, folderId, 'manage', tx);
    if (folder.storeKind === 'home')
      throw new Problem(
        'conflict',
        'home.no-grants',
        'A home is its owner’s alone. Move it to a store to give it to others.',
      );
    const told = await work(tx, folder);
    if (!told) return [];
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
    const actor = {
      kind: who.role === 'guest' ? ('guest' as const) : ('person' as const),
      id: who.personId,
      name: who.name,
    };
    return [{ kind: told.kind, actor, nodeId: folderId, detail: { folder: folder.name, ...told.detail } }];
  }

  /** The folder of a grant that has not ended, for whoever may say so there. @throws Problem not-found, grant.over */
  private async live(who: Account, grantId: string, m = this.db.manager): Promise<{ folderId: string }> {
    const [grant] = await grantsByIds(m, [grantId]);
    if (!grant) throw notFound('This grant');
    await this.access.requireAccessOf(who, grant.folderId, 'manage', m);
    if (grant.endedAt !== null) throw grantOver();
    return grant;
  }

  /** The grants that count in a folder now or later, and of these those that stand on it. */
  private async present(tx: EntityManager, folder: AccessFolder) {
    const { chain, at } = await this.look(folder, tx);
    const ids = countedOf(chain, at).flatMap((f) => f.grants.map((g) => g.id));
    const grants = (await grantsByIds(tx, ids)).filter((g) => grantRow(g, at, null).state !== 'over');
    return { grants, here: grants.filter((g) => g.folderId === folder.id) };
  }

  private async look(folder: AccessFolder, m: EntityManager): Promise<Looked> {
    return { chain: await loadChain(m, folder.id), at: this.clock.now() };
  }

  private async reachers(
    who: Account,
    chain: RootFolder[],
    at: number,
    names: Names,
    everybody: boolean,
  ): Promise<Reacher[]> {
    const m = this.db.manager;
    const store = (chain.at(-1) as RootFolder).store;
    const askers = await loadAskers(m, everybody ? null : [who.personId]);
    const reaching = whoCanReach(chain, store, askers, at);
    const people = new Map(
      (
        await peopleByIds(
          m,
          reaching.map((r) => r.personId),
        )
      ).map((p) => [p.id, p]),
    );
    return reaching.map(({ personId, access }) => {
      const asker = askers.find((a) => a.personId === personId) as (typeof askers)[number];
      return {
        personId,
        name: people.get(personId)?.name ?? '',
        guest: isGuestAt(asker, at),
        level: levelOf(access),
        until: access.validUntil === null ? null : new Date(access.validUntil).toISOString(),
        why: explainAccess(chain, store, asker, at, names),
      };
    });
  }

  /** What folders and groups are called to somebody: of what they do not see, that it is above. */
  private async names(who: Account, chain: RootFolder[], folder: AccessFolder, manages: boolean) {
    const m = this.db.manager;
    const ids = [folder.id, ...chain.map((f) => f.id)];
    const visible = await seenFolders(m, who.personId, ids);
    if (manages) visible.add(folder.id);
    const called = await namesOfFolders(m, ids);
    const seen = new Map([...called].filter(([id]) => visible.has(id)));
    const groups = new Map(
      (await grantable(m, this.clock.date(), { endedToo: true })).groups.map((g) => [g.id, g.name]),
    );
    return {
      seen,
      folder: (id: string) => seen.get(id) ?? 'a folder above',
      group: (id: string) => groups.get(id) ?? 'a group',
      zone: await this.zone(),
    };
  }

  private async zone(): Promise<string> {
    return (await this.office.settings()).zone;
  }
}

/** What is changed in a folder, and what is told of it; null: nothing had to be. */
type Work = (tx: EntityManager, folder: AccessFolder) => Promise<Told | null>;

interface Told {
  kind: string;
  detail: Record<string, string | null>;
}

const grantOver = (): Problem => new Problem('gone', 'grant.over', 'That grant has ended already.');

/** @throws Problem grant.ends-before */
function untilOf(text: string | null, since: Date, now: Date): Date | null {
  if (text === null) return null;
  const until = new Date(text);
  if (until <= since || until <= now)
    throw invalidField('until', 'grant.ends-before', 'It would end before it begins, or has ended by now.');
  return until;
}

const said = (level: AccessLevel, until: Date | null, now: Date, zone: string) => ({
  level: LEVEL_WORDS[level],
  until: until && momentInWords(until.getTime(), now.getTime(), zone),
});

function levelOf(access: EffectiveAccess): AccessLevel | null {
  return levelOfActs(access.acts) ?? (access.own.includes('add') ? 'contribute' : null);
}

function grantRow(g: StoredGrant, at: number, folderName: string | null): GrantRow {
  const over = g.endedAt !== null || (g.until !== null && g.until.getTime() <= at);
  return {
    id: g.id,
    folderId: g.folderId,
    folderName,
    subject: g.subject,
    level: g.level,
    since: g.since.toISOString(),
    until: g.until?.toISOString() ?? null,
    grantedBy: g.grantedBy,
    endedAt: g.endedAt?.toISOString() ?? null,
    endedBy: g.endedBy,
    state: over ? 'over' : g.since.getTime() > at ? 'coming' : 'holds',
  };
}
