import { Inject, Injectable } from '@nestjs/common';
import {
  initialsOf,
  signInNameFor,
  SYSTEM_ACTOR,
  whoByProvider,
  type ProviderClaims,
  type ProviderFailure,
  type ProviderRefusal,
} from '@quay/core';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { GroupsService } from '../access/groups.service.js';
import { unusablePassword } from '../accounts/unusable-password.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { addPerson, freeSignInName } from '../people/people.queries.js';
import { SessionService, type FactorShown, type Signed, type SignedInFrom } from '../people/session.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { makeStore } from '../stores/make-store.js';
import { Known, ProviderAway, ProviderRefused, wayOut, wayThere, whoCame } from './asked.js';
import {
  candidatesAt,
  keepGoing,
  keepIdentity,
  personOfSubject,
  takeGoing,
  type ProviderWay,
} from './provider.queries.js';
import { callbackOf, ProviderService } from './provider.service.js';

/** How long somebody may take there, and then for their code. */
const AWAY_MS = 10 * 60_000;
/** Of one source in a minute: a whole office stands behind one address. */
const TRIES = 300;

/** What comes of somebody who came back: a session, a code that is wanted, or why not. */
export type CameBack =
  | { kind: 'in'; signed: Signed; back: string }
  | { kind: 'code'; state: string }
  | { kind: 'refused'; code: ProviderRefusal | ProviderFailure };

const refused = (code: ProviderRefusal | ProviderFailure): CameBack => ({ kind: 'refused', code });

/** Sign-in by the identity provider of the office. */
@Injectable()
export class ProviderSignIn {
  private readonly known = new Known();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly office: Office,
    private readonly attempts: Attempts,
    private readonly sessions: SessionService,
    private readonly groups: GroupsService,
    private readonly provider: ProviderService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async offered(): Promise<{ name: string } | null> {
    const way = await this.provider.way();
    return way && { name: way.name };
  }

  /** Where to send somebody, and the secret by which their browser is known again. */
  async begin(back: string, fromAddress: string): Promise<{ url: string; state: string } | CameBack> {
    await this.attempts.take(`provider sign-in from ${sourceOf(fromAddress)}`, TRIES);
    const way = await this.provider.way();
    if (!way) return refused('provider.away');
    try {
      const state = randomBytes(32).toString('base64url');
      const config = await this.known.of(way, this.clock.now());
      const { url, nonce, verifier } = await wayThere(config, { state, redirect: callbackOf(way) });
      await this.remember(state, { nonce, verifier, back: pathOf(back), personId: null });
      return { url: url.href, state };
    } catch (error) {
      return this.failed(error);
    }
  }

  /** @param search what the provider sent along @param cookie the secret of the browser that was sent there @param browser by which no code is asked for */
  async cameBack(
    search: string,
    { cookie, browser }: { cookie: string | null; browser: string | null },
    from: SignedInFrom,
  ): Promise<CameBack> {
    await this.attempts.take(`provider sign-in from ${sourceOf(from.fromAddress)}`, TRIES);
    const way = await this.provider.way();
    const stated = new URLSearchParams(search).get('state');
    if (!way || cookie === null || stated !== cookie) return refused('provider.over');
    const going = await this.take(cookie);
    if (!going || going.personId) return refused('provider.over');
    try {
      const config = await this.known.of(way, this.clock.now());
      const came = new URL(`${callbackOf(way)}${search}`);
      const claims = await whoCame(config, came, { ...going, state: cookie, groupsClaim: way.groupsClaim });
      const personId = await this.personOf(way, claims);
      if (typeof personId !== 'string') return personId;
      await this.intoGroups(way, personId, claims.groups);
      return await this.finish(personId, going.back, from, browser);
    } catch (error) {
      return this.failed(error);
    }
  }

  /** Whoever came back types the code that was wanted of them. @throws Problem factor.wrong, sign-in.provider-over */
  async withCode(cookie: string | null, shown: FactorShown, from: SignedInFrom): Promise<Signed> {
    const going = cookie === null ? null : await this.take(cookie);
    if (!going?.personId)
      throw new Problem('gone', 'sign-in.provider-over', 'That took too long. Begin the sign-in again.');
    try {
      return await this.sessions.signInByProvider(going.personId, from, shown);
    } catch (error) {
      // Whoever mistyped has another try, as often as codes may be tried.
      await this.remember(cookie as string, going);
      throw error;
    }
  }

  /** Where whoever signs out here signs out there as well; null: nowhere. */
  async wayOut(): Promise<string | null> {
    const way = await this.provider.way();
    if (!way) return null;
    const config = await this.known.of(way, this.clock.now()).catch(() => null);
    return config && wayOut(config, way);
  }

  private async finish(personId: string, back: string, from: SignedInFrom, browser: string | null): Promise<CameBack> {
    try {
      return { kind: 'in', signed: await this.sessions.signInByProvider(personId, from, { browser }), back };
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      if (error.code === 'sign-in.outside') return refused('provider.outside');
      if (error.code !== 'sign-in.code-wanted') return refused('provider.disabled');
      const state = randomBytes(32).toString('base64url');
      await this.remember(state, { nonce: '', verifier: '', back, personId });
      return { kind: 'code', state };
    }
  }

  private remember(state: string, going: Parameters<typeof keepGoing>[2]['going']): Promise<void> {
    const now = this.clock.date();
    const endsAt = new Date(now.getTime() + AWAY_MS);
    return this.db.transaction((tx) => keepGoing(tx, this.config.sealingKey, { state, going, now, endsAt }));
  }

  private take(state: string) {
    return this.db.transaction((tx) => takeGoing(tx, this.config.sealingKey, state, this.clock.date()));
  }

  /** Who they are here; an account is made, or tied to them, where that is so. */
  private async personOf(way: ProviderWay, claims: ProviderClaims): Promise<string | CameBack> {
    const passwordHash = await unusablePassword();
    const { homes } = await this.office.settings();
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const { issuer } = way;
      const { subject, email } = claims;
      const bySubject = await personOfSubject(tx, issuer, subject);
      const byMail = email === null ? [] : await candidatesAt(tx, email);
      const found = whoByProvider(claims, way, { bySubject, byMail });
      if (found.kind === 'refused') return refused(found.code);
      if (found.kind === 'known') return found.personId;
      const at = this.clock.date();
      const entries: NewEntry[] = [];
      const personId =
        found.kind === 'link' ? found.personId : await this.add(tx, found, { passwordHash, homes, at, entries });
      if (!(await keepIdentity(tx, { issuer, subject, personId, at }))) return refused('provider.taken');
      entries.push(entry('provider.known', { email: email ?? '' }));
      await this.events.tell(tx, { topic: 'access', id: 'changed' });
      await this.ledger.append(tx, ...entries);
      return personId;
    });
  }

  private async add(
    tx: EntityManager,
    { name, email }: { name: string; email: string },
    how: { passwordHash: string; homes: boolean; at: Date; entries: NewEntry[] },
  ): Promise<string> {
    const signInName = await freeSignInName(tx, signInNameFor(email.slice(0, email.lastIndexOf('@'))) || name);
    const initials = initialsOf(name);
    const { passwordHash, homes, at } = how;
    const id = await addPerson(tx, { name, signInName, email, initials, role: 'staff', passwordHash }, at);
    if (homes) await makeStore(tx, { kind: 'home', name, ownerId: id }, at);
    how.entries.push(entry('person.added', { name, role: 'staff' }));
    return id;
  }

  /** Into the groups that the provider names, and out of those that it does not name any more. */
  private async intoGroups({ groups }: ProviderWay, personId: string, named: readonly string[]): Promise<void> {
    if (groups.length === 0) return;
    const wanted = new Set(groups.filter((g) => named.includes(g.claim)).map((g) => g.groupId));
    const member = { kind: 'person' as const, id: personId };
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const entries: NewEntry[] = [];
      for (const groupId of new Set(groups.map((g) => g.groupId))) {
        const how = { isIn: wanted.has(groupId), source: 'provider' as const };
        if (await this.groups.memberBySourceIn(tx, groupId, member, how))
          entries.push(await this.groups.sourceEntry(tx, groupId, member, how.isIn));
      }
      if (entries.length > 0) await this.events.tell(tx, { topic: 'access', id: 'changed' });
      await this.ledger.append(tx, ...entries);
    });
  }

  private failed(error: unknown): CameBack {
    if (error instanceof ProviderAway) return refused('provider.away');
    if (error instanceof ProviderRefused) return refused('provider.refused');
    if (error instanceof Problem) throw error;
    // What it said may hold who somebody is: its kind is enough to look it up.
    const { code, message } = error as Error & { code?: string };
    log.warn({ code, fault: message.slice(0, 200) }, 'what an identity provider said could not be believed');
    return refused('provider.not-believed');
  }
}

/** A path of this office; anything else would send people elsewhere. */
export const pathOf = (back: string): string => (/^\/(?![/\\])[\x21-\x7e]{0,500}$/.test(back) ? back : '/');

const entry = (kind: string, detail: NewEntry['detail']): NewEntry => ({
  kind,
  actor: { ...SYSTEM_ACTOR, name: 'The identity provider' },
  detail,
});
