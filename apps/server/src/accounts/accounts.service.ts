import { Injectable } from '@nestjs/common';
import { initialsOf, READY_DUTIES, SYSTEM_ACTOR, tokenFromBytes, type Role } from '@quay/core';
import type { PasswordLink, SetPassword } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { DirectorySignIn } from '../directory/sign-in.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { FactorService } from '../people/factor.service.js';
import {
  accountOf,
  accounts,
  addPerson,
  endSessionsOf,
  makeAdmin,
  setName,
  setPassword,
  type Account,
} from '../people/people.queries.js';
import { holderOfLink, insertPasswordLink, useLinkUp } from '../people/password-links.queries.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office, securityOf } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { Problem } from '../platform/problems/problem.js';
import { requireStrong } from '../platform/strength.js';
import { makeStore } from '../stores/make-store.js';
import { unusablePassword } from './unusable-password.js';

/** A link is carried to somebody who is waiting for it. */
const LINK_MS = 24 * 3600_000;
const TRIES = 20;

/** What whoever has the machine may do about accounts, and the links that are given out for it. */
@Injectable()
export class AccountsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly attempts: Attempts,
    private readonly office: Office,
    private readonly factor: FactorService,
    private readonly directory: DirectorySignIn,
  ) {}

  list(): Promise<Account[]> {
    return accounts(this.db.manager);
  }

  /**
   * Makes somebody an admin; who has no account yet gets one, and sets a password by a link.
   * @returns whether the account is new
   */
  async makeAdmin(signInName: string, fresh: { name: string; email: string } | null): Promise<{ added: boolean }> {
    const passwordHash = await unusablePassword();
    const { homes } = await this.office.settings();
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const there = await accountOf(tx, signInName);
      if (there) {
        if (there.left) throw new Problem('conflict', 'person.left', `${there.name} has left.`);
        if (there.role === 'guest')
          throw new Problem('conflict', 'person.guest', `${there.name} is a guest, and not of the office.`);
        await makeAdmin(tx, there.id, READY_DUTIES.admin);
        await this.events.tell(tx, { topic: 'session', id: there.id }, { topic: 'access', id: 'any' });
        await this.told(tx, 'person.made-admin', { name: there.name });
        return { added: false };
      }
      if (!fresh) throw nobody(signInName);
      const at = this.clock.date();
      const role: Role = 'admin';
      const person = { ...fresh, signInName, initials: initialsOf(fresh.name), role, passwordHash };
      const ownerId = await addPerson(tx, person, at);
      if (homes) await makeStore(tx, { kind: 'home', name: fresh.name, ownerId }, at);
      await this.told(tx, 'person.added', { name: fresh.name, role });
      return { added: true };
    });
  }

  /** A token by which somebody sets a password, once, within a day; links before it are void. */
  async passwordLink(signInName: string): Promise<{ token: string; name: string; endsAt: Date }> {
    const token = tokenFromBytes(randomBytes(16));
    const now = this.clock.date();
    const endsAt = new Date(now.getTime() + LINK_MS);
    return this.events.change(async (tx) => {
      const person = await this.requireAccount(tx, signInName);
      // By a password of here they would not get in.
      if (await this.directory.signsIn(person.id))
        throw new Problem(
          'conflict',
          'person.of-directory',
          `${person.name} signs in by the password of the directory.`,
        );
      await insertPasswordLink(tx, { token, personId: person.id, at: now, endsAt });
      await this.told(tx, 'person.password-link', { name: person.name });
      return { token, name: person.name, endsAt };
    });
  }

  /** @returns how many sessions there were */
  async endSessions(signInName: string): Promise<{ name: string; ended: number }> {
    return this.events.change(async (tx) => {
      const person = await this.requireAccount(tx, signInName);
      const ended = await endSessionsOf(tx, person.id);
      await this.events.tell(tx, { topic: 'session', id: person.id });
      await this.told(tx, 'person.sessions-ended', { name: person.name, count: ended });
      return { name: person.name, ended };
    });
  }

  /** Switches off a second factor that somebody lost. Their password still holds. */
  async factorOff(signInName: string): Promise<{ name: string; wasOn: boolean }> {
    return this.events.change(async (tx) => {
      const person = await this.requireAccount(tx, signInName);
      return { name: person.name, wasOn: await this.factor.switchOff(tx, person) };
    });
  }

  /** Whose link it is. @throws Problem link.over, in the same words for what never was and what is over */
  async whose(token: string, fromAddress: string): Promise<PasswordLink> {
    await this.attempts.take(`password link from ${sourceOf(fromAddress)}`, TRIES);
    const person = await this.holder(this.db.manager, token);
    const { name: office } = await this.office.settings();
    return { name: person.name, signInName: person.signInName, office, begins: person.invited };
  }

  /** Sets the password and ends all sessions of that person. @throws Problem link.over, password.weak */
  async setPassword(token: string, { password, name: chosen }: SetPassword, fromAddress: string): Promise<void> {
    const { name, signInName, office } = await this.whose(token, fromAddress);
    const context = [name, signInName, ...office.toLowerCase().split(' '), 'quay'];
    await requireStrong('password', password, context, (await securityOf(this.db.manager)).leastStrength);
    const passwordHash = await hashPassword(password);
    await this.events.change(async (tx) => {
      // Whoever still finds the link uses it up.
      const person = await this.holder(tx, token);
      if (!(await useLinkUp(tx, token))) throw over();
      const called = person.invited && chosen !== undefined ? chosen : person.name;
      if (called !== person.name) await setName(tx, person.id, called);
      await setPassword(tx, person.id, passwordHash);
      await endSessionsOf(tx, person.id);
      await this.events.tell(tx, { topic: 'session', id: person.id });
      const actor = { kind: 'person' as const, id: person.id, name: called };
      await this.ledger.append(tx, { kind: 'person.password-set', actor, detail: {} });
    });
  }

  private async holder(m: EntityManager, token: string): Promise<Account> {
    const id = await holderOfLink(m, token, this.clock.date());
    const person = id === null ? undefined : (await accounts(m)).find((a) => a.id === id && !a.left);
    if (!person) throw over();
    return person;
  }

  private async requireAccount(m: EntityManager, signInName: string): Promise<Account> {
    const person = await accountOf(m, signInName);
    if (!person || person.left) throw nobody(signInName);
    return person;
  }

  /** Whoever has the machine is known by that alone. */
  private told(tx: EntityManager, kind: string, detail: Record<string, string | number>): Promise<void> {
    return this.ledger.append(tx, { kind, actor: { ...SYSTEM_ACTOR, name: 'Whoever has the machine' }, detail });
  }
}

const over = (): Problem =>
  new Problem('gone', 'link.over', 'This link has been used, or is over. Ask whoever runs the server for another.');

const nobody = (signInName: string): Problem =>
  new Problem('not-found', 'person.none', `Nobody signs in as ${signInName}.`);
