import { Inject, Injectable } from '@nestjs/common';
import { factorDueAt, readFactorCode, recoveryCodesFrom, SYSTEM_ACTOR, type Actor } from '@quay/core';
import type { FactorBegun, RecoveryCodes, SecondFactor } from '@quay/contract';
import { createHmac, hkdfSync, randomBytes } from 'node:crypto';
import { DataSource, IsNull, Not, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';
import { removePasskeysOf } from './passkeys.queries.js';
import { FactorBrowsers } from './factor-browsers.js';
import { accountSince, forgetBrowsersOf } from './people.queries.js';
import { OwnPassword } from './own-password.js';
import { Person, RecoveryCode, SecondFactorRow } from './people.entity.js';
import { factorStepOf, factorUri, newFactorSecret } from './totp.js';
import type { Who } from './who.js';

const HOUR_MS = 3600_000;
/** Wrong codes in an hour. Three of a million codes are right at any time, so that a year of tries finds one in four. */
const CODE_TRIES = 10;
const PASSWORD_TRIES = 10;

/** What somebody is told by mail about their second factor; the ledger has a line of the same kind. */
const NOTICES = {
  'person.factor-on': {
    subject: 'A second factor is asked of you from now on',
    text: 'you set up a second factor just now: signing in takes a code of your authenticator.',
  },
  'person.factor-off': {
    subject: 'Your second factor was switched off',
    text: 'your second factor was switched off: signing in takes your password alone.',
  },
  'person.factor-codes': {
    subject: 'You have new recovery codes',
    text: 'new recovery codes were made for you just now. Those before are void.',
  },
  'person.recovery-used': {
    subject: 'A recovery code of yours was used',
    text: 'a recovery code of yours was used just now. It is void; the others are good.',
  },
  'person.wrong-codes': {
    subject: 'Wrong codes were typed for you',
    text: `${CODE_TRIES} wrong codes were typed within an hour by somebody who has your password. Change it.`,
  },
} as const;
type Told = keyof typeof NOTICES;

/** Whose code is typed, and where tries are counted: by the person, or by a browser of theirs that is remembered. */
export interface WhoseCode {
  person: Pick<Person, 'id' | 'name' | 'email'>;
  device: string | null;
}

/** The second factor: codes of an authenticator (RFC 6238), and for whoever lost it codes that are each good once. */
@Injectable()
export class FactorService {
  private readonly key: Buffer;

  constructor(
    private readonly password: OwnPassword,
    private readonly browsers: FactorBrowsers,
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly attempts: Attempts,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly events: Events,
    private readonly office: Office,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    // Codes for recovery have too few bits for a plain hash: whoever has the database alone cannot try them.
    this.key = Buffer.from(hkdfSync('sha256', config.sealingKey, '', 'recovery codes', 32));
  }

  async state({ personId, role }: Who): Promise<SecondFactor> {
    const row = await this.db.getRepository(SecondFactorRow).findOneBy({ personId, since: Not(IsNull()) });
    const rule = { ...(await this.office.security()), wantedSince: await this.office.factorWantedSince() };
    const dueAt = factorDueAt(rule, { role, since: await accountSince(this.db.manager, personId) });
    return {
      on: row !== null,
      since: row?.since?.toISOString() ?? null,
      browsers: await this.browsers.count(personId),
      recoveryLeft: row ? await this.db.getRepository(RecoveryCode).countBy({ personId }) : 0,
      wanted: dueAt !== null,
      dueAt: dueAt === null ? null : new Date(dueAt).toISOString(),
    };
  }

  async isOn(m: EntityManager, personId: string): Promise<boolean> {
    return m.existsBy(SecondFactorRow, { personId, since: Not(IsNull()) });
  }

  /** Whether one is still to be offered: there is none, and none was declined. */
  async isOpen({ personId }: Who): Promise<boolean> {
    if (await this.isOn(this.db.manager, personId)) return false;
    return this.db.getRepository(Person).existsBy({ id: personId, factorDeclinedAt: IsNull() });
  }

  /** Takes what was offered off the list of what is left to do; one can be set up at any time. */
  async decline({ personId }: Who): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.update(Person, { id: personId }, { factorDeclinedAt: this.clock.date() });
      await this.events.tell(tx, { topic: 'session', id: personId });
    });
  }

  /**
   * Draws a secret for an authenticator; it counts once a code of it was typed. The password is asked for, so that
   * nobody at a browser that was left open ties the account to a telephone of theirs.
   */
  async begin(who: Who, password: string): Promise<FactorBegun> {
    await this.attempts.take(`password of ${who.personId}`, PASSWORD_TRIES);
    const person = await this.db.getRepository(Person).findOneByOrFail({ id: who.personId });
    if (!(await this.password.isRight(person, password)))
      throw invalidField('password', 'password.wrong', 'That is not your password.');
    const secret = newFactorSecret();
    await this.db.transaction(async (tx) => {
      // Two browsers that begin at once take turns; one that counts by now is never taken away.
      await tx.findOne(Person, { where: { id: person.id }, lock: { mode: 'pessimistic_write' } });
      if (await this.isOn(tx, person.id))
        throw new Problem(
          'conflict',
          'factor.on',
          'You have a second factor. Switch it off before you set up another.',
        );
      await tx.delete(SecondFactorRow, { personId: person.id, since: IsNull() });
      await tx.insert(SecondFactorRow, {
        personId: person.id,
        secretSealed: seal(this.config.sealingKey, secret),
        begunAt: this.clock.date(),
      });
    });
    return { secret, uri: factorUri(secret, (await this.office.settings()).name, person.signInName) };
  }

  /** The first code of the new authenticator: from here on it is asked for. @returns the codes for recovery */
  async confirm(who: Who, typed: string): Promise<RecoveryCodes> {
    const whose = await this.ownCode(who);
    await this.countTry(whose);
    return this.changed(async (tx) => {
      await tx.findOne(Person, { where: { id: who.personId }, lock: { mode: 'pessimistic_write' } });
      const row = await this.held(tx, who.personId);
      if (!row || row.since)
        throw new Problem('conflict', 'factor.not-begun', 'Begin anew: another authenticator was set up meanwhile.');
      const step = await this.stepOf(row, typed);
      if (step === null) throw wrongCode();
      await tx.update(SecondFactorRow, { personId: who.personId }, { since: this.clock.date(), lastStep: step });
      await this.attempts.giveBack(triesKey(whose), tx);
      return this.settled(tx, whose, 'person.factor-on');
    });
  }

  /** A code is asked for in every browser again. */
  async forgetBrowsers(who: Who): Promise<SecondFactor> {
    await this.events.change(async (tx) => {
      await forgetBrowsersOf(tx, who.personId);
      await this.events.tell(tx, { topic: 'session', id: who.personId });
    });
    return this.state(who);
  }

  /** New codes for recovery; those before are void. */
  async renewCodes(who: Who, typed: string): Promise<RecoveryCodes> {
    const whose = await this.ownCode(who);
    await this.countTry(whose);
    return this.changed(async (tx) => {
      await this.require(tx, whose, typed);
      return this.settled(tx, whose, 'person.factor-codes');
    });
  }

  /** Switches the own second factor off. A code is asked for, so that a browser that was left open is not enough. */
  async end(who: Who, typed: string): Promise<void> {
    const whose = await this.ownCode(who);
    await this.countTry(whose);
    await this.changed(async (tx) => {
      await this.require(tx, whose, typed);
      await tx.delete(SecondFactorRow, { personId: who.personId });
      await forgetBrowsersOf(tx, who.personId);
      await this.told(tx, whose.person, 'person.factor-off');
    });
  }

  /** Switches off what somebody lost. @param by left out: whoever has the machine @returns whether there was one */
  async switchOff(
    tx: EntityManager,
    person: Pick<Person, 'id' | 'name' | 'email'>,
    by: Actor = { ...SYSTEM_ACTOR, name: 'Whoever has the machine' },
  ): Promise<boolean> {
    const { affected } = await tx.delete(SecondFactorRow, { personId: person.id });
    // Whatever lay on the device that was lost.
    await forgetBrowsersOf(tx, person.id);
    const passkeys = await removePasskeysOf(tx, person.id);
    if (!affected && passkeys === 0) return false;
    await this.events.tell(tx, { topic: 'session', id: person.id });
    await this.ledger.append(tx, {
      kind: 'person.factor-lost',
      actor: by,
      detail: { name: person.name },
    });
    await this.notice(tx, person, 'person.factor-off');
    return true;
  }

  /** Counts a try, before anything is done for it. @throws Problem tries.too-many */
  async countTry(whose: WhoseCode): Promise<void> {
    const { count, windowStart } = await this.attempts.count(triesKey(whose), HOUR_MS);
    if (count <= CODE_TRIES) return;
    // Said once an hour: whoever types codes has the password.
    if (count === CODE_TRIES + 1) await this.changed((tx) => this.told(tx, whose.person, 'person.wrong-codes'));
    throw this.attempts.tooMany(windowStart, HOUR_MS);
  }

  /**
   * Takes a code that was typed, once: of the authenticator, or for recovery.
   * @throws Problem factor.wrong
   */
  async require(tx: EntityManager, whose: WhoseCode, typed: string): Promise<void> {
    const personId = whose.person.id;
    const row = await this.held(tx, personId);
    if (!row?.since) throw wrongCode();
    if (readFactorCode(typed)?.kind === 'recovery') await this.takeRecoveryCode(tx, whose, typed);
    else {
      const step = await this.stepOf(row, typed);
      if (step === null) throw wrongCode();
      await tx.update(SecondFactorRow, { personId }, { lastStep: step });
    }
    await this.attempts.giveBack(triesKey(whose), tx);
  }

  private async takeRecoveryCode(tx: EntityManager, { person }: WhoseCode, typed: string): Promise<void> {
    const { affected } = await tx.delete(RecoveryCode, { personId: person.id, codeHash: this.hashOf(typed) });
    if (!affected) throw wrongCode();
    await this.told(tx, person, 'person.recovery-used');
  }

  /** Held until the transaction ends, so that no code is taken twice. */
  private held(tx: EntityManager, personId: string): Promise<SecondFactorRow | null> {
    return tx.findOne(SecondFactorRow, { where: { personId }, lock: { mode: 'pessimistic_write' } });
  }

  private async stepOf(row: SecondFactorRow, typed: string): Promise<number | null> {
    const read = readFactorCode(typed);
    if (read?.kind !== 'code') return null;
    return factorStepOf(unseal(this.config.sealingKey, row.secretSealed), read.code, this.clock.now(), row.lastStep);
  }

  /** New codes for recovery, with the line in the ledger and the notice that go with what gave rise to them. */
  private async settled(tx: EntityManager, whose: WhoseCode, kind: Told): Promise<RecoveryCodes> {
    const codes = recoveryCodesFrom(() => randomBytes(1)[0] as number);
    await tx.delete(RecoveryCode, { personId: whose.person.id });
    await tx.insert(
      RecoveryCode,
      codes.map((code) => ({ personId: whose.person.id, codeHash: this.hashOf(code) })),
    );
    await this.told(tx, whose.person, kind);
    return { codes };
  }

  private async told(tx: EntityManager, person: WhoseCode['person'], kind: Told): Promise<void> {
    await this.events.tell(tx, { topic: 'session', id: person.id });
    const actor = { kind: 'person' as const, id: person.id, name: person.name };
    await this.ledger.append(tx, { kind, actor, detail: {} });
    await this.notice(tx, person, kind);
  }

  private async notice(tx: EntityManager, { email, name }: WhoseCode['person'], kind: Told): Promise<void> {
    const { subject, text } = NOTICES[kind];
    const whole = `Hello ${name},\n\n${text}\nIf that was not you, tell whoever runs the server at once.\n`;
    await this.mail.handIn(tx, { to: email, subject, text: whole });
  }

  /** A change that somebody is told of: the notice goes out at once. */
  private async changed<T>(change: (tx: EntityManager) => Promise<T>): Promise<T> {
    const made = await this.events.change(change);
    this.mail.hurry();
    return made;
  }

  private async ownCode(who: Who): Promise<WhoseCode> {
    return { person: await this.db.getRepository(Person).findOneByOrFail({ id: who.personId }), device: null };
  }

  private hashOf(typed: string): Buffer {
    const code = readFactorCode(typed)?.code ?? '';
    return createHmac('sha256', this.key).update(code).digest();
  }
}

/** A stranger's tries do not keep out the browsers that somebody has signed in with before. */
const triesKey = ({ person, device }: WhoseCode): string =>
  device ? `factor of ${person.id} by ${device}` : `factor of ${person.id}`;

const wrongCode = (): Problem =>
  invalidField('code', 'factor.wrong', 'That code is not right, or was used already. The next one comes within 30 s.');
