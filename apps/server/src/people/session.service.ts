import { Injectable } from '@nestjs/common';
import { browserInWords, factorDueAt, mayBeSignedIn, type Duty, type SecurityFacts } from '@quay/core';
import type { ChangePassword, SessionRow, SignIn } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { DataSource, LessThan, MoreThan, Not, type EntityManager } from 'typeorm';
import { ensureReach } from '../access/access-reach.js';
import { reachStands } from '../access/access.queries.js';
import { managesAny } from '../access/groups.queries.js';
import { DirectorySignIn } from '../directory/sign-in.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { OwnNetwork } from '../platform/own-network.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office, securityOf } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { requireStrong } from '../platform/strength.js';
import { secretHash } from '../platform/seal.js';
import { DeviceMemory } from './device-memory.js';
import { FactorBrowsers } from './factor-browsers.js';
import { FactorService } from './factor.service.js';
import { OwnPassword } from './own-password.js';
import { Person, Session } from './people.entity.js';
import { ACCOUNT_SINCE, accountsAt, forgetBrowsersOf, setPassword } from './people.queries.js';
import type { Held, Hindrance, Who } from './who.js';

const DAY_MS = 24 * 3600 * 1000;
/** `seen_at` is written at most this often. */
const SEEN_STEP_MS = 10 * 60 * 1000;
/** Wrong tries in a minute. */
const SIGN_IN_TRIES = { perNameAndSource: 10, perSource: 30, perName: 100, perDevice: 10 } as const;

/** What a browser is given when somebody has signed in. */
export interface Signed {
  secret: string;
  /** The sign that it is remembered by. */
  device: string;
  /** By which no code is asked for there; null: one is. */
  noCode?: string | null;
}

/** What somebody with a second factor shows of it. */
export interface FactorShown {
  code?: string;
  /** No code is to be asked for in this browser for a while. */
  remember?: boolean;
  /** What the browser bears in which that was said before. */
  browser: string | null;
}

export interface SignedIn {
  who: Who;
  expiresAt: Date;
}

/** Where and by what somebody signs in, as far as that can be known. */
export interface SignedInFrom {
  fromAddress: string;
  agent: string;
}

interface SessionHolder extends Pick<SecurityFacts, 'factorWanted' | 'factorGraceDays' | 'signInOutside'> {
  wantedSince: Date | null;
  /** Since when they have been what they are. */
  since: Date;
  id: string;
  name: string;
  role: Who['role'];
  duties: Duty[];
  /** Whether they have a second factor. */
  factor: boolean;
  /** Whether they came in by a password that somebody else made. */
  given: boolean;
}

function hindranceOf(holder: SessionHolder, { outside, now }: { outside: boolean; now: number }): Hindrance | null {
  const { role, factor, signInOutside } = holder;
  if (!mayBeSignedIn(signInOutside, { outside, factor })) return 'outside';
  if (holder.given) return 'password';
  const rule = { ...holder, wantedSince: holder.wantedSince?.getTime() ?? null };
  const dueAt = factorDueAt(rule, { role, since: holder.since.getTime() });
  return dueAt !== null && dueAt <= now && !factor ? 'factor' : null;
}

const codeWanted = (): Problem =>
  new Problem('unauthenticated', 'sign-in.code-wanted', 'Type the code that your authenticator shows.');

@Injectable()
export class SessionService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly attempts: Attempts,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly devices: DeviceMemory,
    private readonly events: Events,
    private readonly office: Office,
    private readonly factor: FactorService,
    private readonly network: OwnNetwork,
    private readonly directory: DirectorySignIn,
    private readonly password: OwnPassword,
    private readonly browsers: FactorBrowsers,
  ) {}

  /**
   * @param device the sign of a browser in which somebody has signed in before
   * @param browser what one bears in which no code is asked for
   * @returns the session's secret, and the sign that this browser is remembered by. @throws Problem sign-in.refused,
   * tries.too-many
   */
  async signIn(
    asked: SignIn,
    { fromAddress, agent }: SignedInFrom,
    device: string | null,
    browser: string | null = null,
  ): Promise<Signed> {
    const person = await this.named(asked.signInName);
    // Whoever is known by two names is guessed at as one.
    const named = person?.signInName ?? asked.signInName;
    const known = this.devices.known(device, person);
    const source = sourceOf(fromAddress);
    // Guessing is slowed by name and source together. Whoever guesses from elsewhere slows strangers, not those whose
    // browser is known.
    const limits: Record<string, number> = known
      ? { [`sign-in device ${known}`]: SIGN_IN_TRIES.perDevice }
      : {
          [`sign-in from ${source}`]: SIGN_IN_TRIES.perSource,
          [`sign-in ${named} from ${source}`]: SIGN_IN_TRIES.perNameAndSource,
          [`sign-in name ${named}`]: SIGN_IN_TRIES.perName,
        };
    const keys = Object.keys(limits);
    for (const key of keys) await this.attempts.take(key, limits[key] as number);
    const active = person !== null && canBeUsed(person, this.clock.date());
    if (!(await this.password.isRight(active ? person : null, asked.password)) || !active) {
      throw new Problem('unauthenticated', 'sign-in.refused', 'That name and password do not belong together.');
    }
    for (const key of keys) await this.attempts.giveBack(key);
    this.requireNotOver(person);
    return this.enter({ person, device: known }, { ...asked, browser }, { fromAddress, agent }, 'password');
  }

  /**
   * Signs somebody in whom the identity provider has let in: it stands for the password, and not for a second factor.
   * @returns as {@link signIn}
   * @throws Problem sign-in.refused, sign-in.outside, sign-in.code-wanted, factor.wrong
   */
  async signInByProvider(personId: string, from: SignedInFrom, shown: FactorShown): Promise<Signed> {
    const person = await this.db.getRepository(Person).findOneBy({ id: personId });
    if (!person || !canBeUsed(person, this.clock.date()))
      throw new Problem('unauthenticated', 'sign-in.refused', 'That account cannot be used any more.');
    return this.enter({ person, device: null }, shown, from, 'provider');
  }

  /** Begins the session of somebody who has shown who they are, but for a code where they have a second factor. */
  private async enter(
    whose: { person: Person; device: string | null },
    shown: FactorShown,
    { fromAddress, agent }: SignedInFrom,
    by: 'password' | 'provider',
  ): Promise<Signed> {
    const now = this.clock.date();
    const { person } = whose;
    const hasFactor = await this.factor.isOn(this.db.manager, person.id);
    await this.requireMaySignIn(fromAddress, hasFactor);
    const isAsked = hasFactor && (shown.code || !(await this.browsers.holds(person.id, shown.browser)));
    if (isAsked && !shown.code) throw codeWanted();
    if (isAsked) await this.factor.countTry(whose);
    const code = isAsked ? (shown.code ?? '') : null;
    const signedIn = await this.events.change(async (tx) => {
      if (code !== null) await this.factor.require(tx, whose, code);
      const noCode = code !== null && shown.remember ? await this.browsers.remember(tx, person.id, code) : null;
      await tx.delete(Session, { expiresAt: LessThan(now) });
      const session = await this.open(tx, person, now, { fromAddress, agent, by });
      await this.ledger.append(tx, {
        kind: 'person.signed-in',
        actor: { kind: 'person', id: person.id, name: person.name },
        detail: { from: fromAddress, ...(by === 'provider' && { by }) },
      });
      return { ...session, noCode };
    });
    // A recovery code that was used is told of.
    if (code !== null) this.mail.hurry();
    return signedIn;
  }

  /**
   * Signs somebody in for whom a device has signed: it stands for the password and a second factor.
   * @returns as {@link signIn}. @throws Problem passkey.refused, sign-in.outside
   */
  async signInByPasskey(
    personId: string,
    { fromAddress, agent }: SignedInFrom,
  ): Promise<{ secret: string; device: string }> {
    await this.requireMaySignIn(fromAddress, true);
    return this.events.change(async (tx) => {
      const now = this.clock.date();
      const person = await tx.findOneBy(Person, { id: personId });
      if (!person || !canBeUsed(person, now))
        throw new Problem('unauthenticated', 'passkey.refused', 'The account of that passkey cannot be used any more.');
      await tx.delete(Session, { expiresAt: LessThan(now) });
      const session = await this.open(tx, person, now, { fromAddress, agent, by: 'passkey' });
      await this.ledger.append(tx, {
        kind: 'person.signed-in',
        actor: { kind: person.role === 'guest' ? 'guest' : 'person', id: person.id, name: person.name },
        detail: { from: fromAddress, by: 'passkey' },
      });
      return session;
    });
  }

  /** Whether a session was begun by a passkey. */
  isByPasskey(secret: string): Promise<boolean> {
    return this.db.getRepository(Session).existsBy({ tokenHash: secretHash(secret), byPasskey: true });
  }

  /** @throws Problem password.given-over */
  private requireNotOver({ givenUntil }: Person): void {
    if (givenUntil && givenUntil <= this.clock.date())
      throw new Problem('forbidden', 'password.given-over', 'The time to use that password is over. Ask for another.');
  }

  /** Who signs in by a name, by a mail address that one person alone has, or by a name of the directory. */
  private async named(typed: string): Promise<Person | null> {
    const people = this.db.getRepository(Person);
    const here = typed.includes('@') ? await this.addressed(typed) : await people.findOneBy({ signInName: typed });
    if (here) return here;
    // What stands before a backslash is the directory's own name, as people are used to type it.
    const name = typed.slice(typed.lastIndexOf('\\') + 1);
    const inDirectory = (await this.directory.named(typed)) ?? (await this.directory.named(name));
    if (inDirectory) return people.findOneBy({ id: inDirectory });
    return name === typed ? null : people.findOneBy({ signInName: name });
  }

  private async addressed(email: string): Promise<Person | null> {
    const at = await accountsAt(this.db.manager, email);
    const usable = at.filter((p) => !p.left);
    const [only] = usable.length === 1 ? usable : [];
    return only ? this.db.getRepository(Person).findOneBy({ id: only.id }) : null;
  }

  /** @throws Problem sign-in.outside */
  private async requireMaySignIn(fromAddress: string, factor: boolean): Promise<void> {
    const { signInOutside } = await this.office.security();
    if (mayBeSignedIn(signInOutside, { outside: this.network.isOutside(fromAddress), factor })) return;
    const words =
      signInOutside === 'factor'
        ? 'From outside the office, only those who have a second factor sign in. Set one up when you are there.'
        : 'From outside the office, nobody may sign in.';
    throw new Problem('forbidden', 'sign-in.outside', words);
  }

  /** Begins a session of somebody who has shown who they are. @returns as {@link signIn} */
  async open(
    tx: EntityManager,
    person: Pick<Person, 'id' | 'passwordHash'>,
    now: Date,
    { fromAddress, agent, by }: SignedInFrom & { by: 'password' | 'passkey' | 'provider' },
  ): Promise<{ secret: string; device: string }> {
    const { sessionDays } = await securityOf(tx);
    const secret = randomBytes(32).toString('base64url');
    await tx.update(Person, { id: person.id }, { seenAt: now });
    await tx.insert(Session, {
      tokenHash: secretHash(secret),
      personId: person.id,
      createdAt: now,
      seenAt: now,
      expiresAt: new Date(now.getTime() + sessionDays * DAY_MS),
      fromAddress,
      agent: agent.slice(0, 300),
      byPasskey: by === 'passkey',
      byProvider: by === 'provider',
    });
    return { secret, device: this.devices.remember(person) };
  }

  /** @returns whether it was begun by the identity provider */
  async signOut(secret: string): Promise<boolean> {
    return this.events.change(async (tx) => {
      const tokenHash = secretHash(secret);
      const session = await tx.findOneBy(Session, { tokenHash });
      if (!session) return false;
      await tx.delete(Session, { tokenHash });
      await this.events.tell(tx, { topic: 'session', id: session.personId });
      return session.byProvider;
    });
  }

  /** Who holds this session and may go on; null when it is over, was never there, or something stands in their way. */
  async whoHolds(secret: string, fromAddress: string): Promise<Who | null> {
    const held = await this.whoKnocks(secret, fromAddress);
    return held && held.hindrance === null ? held.who : null;
  }

  /** Who holds this session, and what stands in their way; null when it is over or was never there. */
  async whoKnocks(secret: string, fromAddress: string): Promise<Held | null> {
    const hash = secretHash(secret);
    const now = this.clock.date();
    const [row] = await this.db.query<(SessionHolder & { seen_at: Date; reach_stands: boolean })[]>(
      `SELECT p.id, p.name, p.role, p.duties, s.seen_at, ${reachStands('p.id', '$2')} AS reach_stands,
              o.factor_wanted AS "factorWanted", o.sign_in_outside AS "signInOutside",
              o.factor_grace_days AS "factorGraceDays", o.factor_wanted_since AS "wantedSince", ${ACCOUNT_SINCE} AS since,
              p.given_until IS NOT NULL AND NOT s.by_passkey AND NOT s.by_provider AS given, s.by_passkey OR EXISTS (
                SELECT 1 FROM second_factor f WHERE f.person_id = p.id AND f.since IS NOT NULL) AS factor
         FROM session s JOIN person p ON p.id = s.person_id CROSS JOIN office o
        WHERE s.token_hash = $1 AND s.expires_at > $2 AND p.disabled_at IS NULL
          AND (p.ends_at IS NULL OR p.ends_at > $2)`,
      [hash, now],
    );
    if (!row) return null;
    if (now.getTime() - row.seen_at.getTime() > SEEN_STEP_MS) {
      const { sessionDays } = await this.office.security();
      const expiresAt = new Date(now.getTime() + sessionDays * DAY_MS);
      await this.db.getRepository(Session).update({ tokenHash: hash }, { seenAt: now, expiresAt });
      await this.db.getRepository(Person).update({ id: row.id }, { seenAt: now });
    }
    // Worked out here, before any transaction of theirs holds something that others wait for.
    if (!row.reach_stands) await ensureReach(this.db.manager, [row.id], now);
    return {
      who: { personId: row.id, name: row.name, role: row.role, duties: row.duties },
      hindrance: hindranceOf(row, { outside: this.network.isOutside(fromAddress), now: now.getTime() }),
    };
  }

  /** Where somebody is signed in, the newest use first. @param secret of the session that asks, if it is theirs */
  async list(who: Pick<Who, 'personId'>, secret: string | null): Promise<SessionRow[]> {
    const here = secret === null ? null : secretHash(secret);
    const rows = await this.db.getRepository(Session).find({
      where: { personId: who.personId, expiresAt: MoreThan(this.clock.date()) },
      order: { seenAt: 'DESC' },
    });
    return rows.map((row) => ({
      id: row.id,
      browser: browserInWords(row.agent),
      from: row.fromAddress,
      since: row.createdAt.toISOString(),
      lastSeen: row.seenAt.toISOString(),
      here: here !== null && row.tokenHash.equals(here),
    }));
  }

  /** Ends one of the own sessions; null: all but the one that asks. @throws Problem not-found */
  async end(who: Who, sessionId: string | null, secret: string): Promise<SessionRow[]> {
    const here = secretHash(secret);
    await this.events.change(async (tx) => {
      const ended = await tx.delete(Session, {
        personId: who.personId,
        ...(sessionId === null ? { tokenHash: Not(here) } : { id: sessionId }),
      });
      if (sessionId !== null && ended.affected === 0) throw notFound('This session');
      if (sessionId === null) await forgetBrowsersOf(tx, who.personId);
      await this.events.tell(tx, { topic: 'session', id: who.personId });
      await this.ledger.append(tx, {
        kind: 'person.sessions-ended',
        actor: { kind: 'person', id: who.personId, name: who.name },
        detail: { name: who.name, count: String(ended.affected ?? 0) },
      });
    });
    return this.list(who, secret);
  }

  /** Whether somebody may put people into a group and take them out. */
  managesGroups(who: Who): Promise<boolean> {
    return managesAny(this.db.manager, who.personId);
  }

  /** Whether the directory knows their password, and nothing here does. */
  isOfDirectory(who: Who): Promise<boolean> {
    return this.directory.signsIn(who.personId);
  }

  person(who: Who): Promise<Person> {
    return this.db.getRepository(Person).findOneByOrFail({ id: who.personId });
  }

  /** Changes the own password and ends all other sessions of that person. */
  async changePassword(who: Who, asked: ChangePassword, secret: string): Promise<void> {
    await this.attempts.take(`password of ${who.personId}`, SIGN_IN_TRIES.perDevice);
    if (await this.directory.signsIn(who.personId))
      throw new Problem('conflict', 'password.of-directory', 'Your password is the directory’s: change it there.');
    const person = await this.person(who);
    if (!(await this.password.isRight(person, asked.current)))
      throw invalidField('current', 'password.wrong', 'That is not your present password.');
    this.requireNotOver(person);
    if (asked.next === asked.current) throw invalidField('next', 'password.same', 'That is the password you have.');
    const { name: office } = await this.office.settings();
    const known = [person.name, person.signInName, ...office.toLowerCase().split(' '), 'quay'];
    await requireStrong('next', asked.next, known, (await this.office.security()).leastStrength);
    const passwordHash = await hashPassword(asked.next);
    await this.events.change(async (tx) => {
      await setPassword(tx, person.id, passwordHash);
      await tx.delete(Session, { personId: person.id, tokenHash: Not(secretHash(secret)) });
      await forgetBrowsersOf(tx, person.id);
      await this.events.tell(tx, { topic: 'session', id: person.id });
      await this.ledger.append(tx, {
        kind: 'person.password-changed',
        actor: { kind: 'person', id: person.id, name: person.name },
        detail: {},
      });
      await this.mail.handIn(tx, {
        to: person.email,
        subject: 'Your password was changed',
        text: `Hello ${person.name},\n\nyour password for Lockfast Quay was changed just now, and you were signed out everywhere else.\nIf that was not you, tell whoever runs the server at once.\n`,
      });
    });
    this.mail.hurry();
  }
}

/** Whether somebody may sign in by an account: it was not ended, and has not ended by itself. */
const canBeUsed = ({ disabledAt, endsAt }: Person, now: Date): boolean =>
  disabledAt === null && (endsAt === null || endsAt > now);
