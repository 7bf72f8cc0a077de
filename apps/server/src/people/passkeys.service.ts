import type { AddPasskey, Passkeys, PasskeySignIn } from '@quay/contract';
import { countOf } from '@quay/core';
import { Injectable } from '@nestjs/common';
import {
  generateAuthenticationOptions,
  generateRegistrationOptions,
  verifyAuthenticationResponse,
  verifyRegistrationResponse,
} from '@simplewebauthn/server';
import { isIP } from 'node:net';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { secretHash } from '../platform/seal.js';
import { OwnPassword } from './own-password.js';
import { Person } from './people.entity.js';
import {
  insertChallenge,
  insertPasskey,
  passkeyById,
  passkeysOf,
  passkeyUsed,
  removePasskey,
  takeChallenge,
  type PasskeyRecord,
} from './passkeys.queries.js';
import type { Who } from './who.js';

/** A device may ask its owner to find it first (W3C Web Authentication, 5.5: minutes). */
const CHALLENGE_MS = 5 * 60_000;
const MOST = 10;
/** Tries in a minute. */
const TRIES = { password: 10, perSource: 30 } as const;

/** Where the server was asked, as the browser knows it. */
export interface AskedAt {
  /** Without a port. */
  host: string;
  /** What a browser that is there signs: scheme, host and port. */
  origin: string;
}

/** Passkeys: devices sign in for their owners, whom they ask for themselves (W3C Web Authentication). */
@Injectable()
export class PasskeysService {
  constructor(
    private readonly password: OwnPassword,
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly office: Office,
    private readonly attempts: Attempts,
  ) {}

  async own(who: Who, at: AskedAt): Promise<Passkeys> {
    const keys = await passkeysOf(this.db.manager, who.personId);
    return {
      keys: keys.map((key) => ({
        id: key.id.toString('base64url'),
        ...{ name: key.name, host: key.host },
        addedAt: key.addedAt.toISOString(),
        usedAt: key.usedAt?.toISOString() ?? null,
      })),
      hindrance: hindranceAt(at),
    };
  }

  /** What a device is told that is to keep a key. @throws Problem password.wrong, passkey.no-name, passkey.many */
  async begin(who: Who, password: string, at: AskedAt) {
    await this.attempts.take(`password of ${who.personId}`, TRIES.password);
    const person = await this.db.getRepository(Person).findOneByOrFail({ id: who.personId });
    if (!(await this.password.isRight(person, password)))
      throw invalidField('password', 'password.wrong', 'That is not your password.');
    const hindrance = hindranceAt(at);
    if (hindrance) throw new Problem('conflict', 'passkey.no-name', hindrance);
    const there = await passkeysOf(this.db.manager, who.personId);
    if (there.length >= MOST)
      throw new Problem('conflict', 'passkey.many', `You have ${countOf(MOST, 'passkey')}. Remove one first.`);
    const options = await generateRegistrationOptions({
      rpName: (await this.office.settings()).name,
      rpID: at.host,
      userName: person.signInName,
      userDisplayName: person.name,
      userID: new TextEncoder().encode(person.id),
      attestationType: 'none',
      excludeCredentials: there.filter((k) => k.host === at.host).map((k) => ({ id: k.id.toString('base64url') })),
      authenticatorSelection: { residentKey: 'required', userVerification: 'required' },
    });
    await this.keepChallenge(options.challenge, who.personId);
    return options;
  }

  /** Keeps the key that a device made. @throws Problem passkey.refused */
  async add(who: Who, { name, response }: AddPasskey, at: AskedAt): Promise<void> {
    const challenge = await this.challengeOf(response.response.clientDataJSON, who.personId);
    const made = await verifyRegistrationResponse({
      response: response as never,
      expectedChallenge: challenge,
      expectedOrigin: at.origin,
      expectedRPID: at.host,
      requireUserVerification: true,
    }).catch(refusedBecause);
    if (!made.verified) throw refused();
    const { credential } = made.registrationInfo;
    await this.events.change(async (tx) => {
      const added = await insertPasskey(tx, {
        ...{ id: Buffer.from(credential.id, 'base64url'), personId: who.personId, host: at.host, name },
        ...{ publicKey: Buffer.from(credential.publicKey), counter: credential.counter },
        ...{ transports: (credential.transports ?? []).slice(0, 10), addedAt: this.clock.date() },
      });
      if (!added) throw refused();
      await this.told(tx, who, 'person.passkey-added', { name });
    });
    this.mail.hurry();
  }

  async remove(who: Who, id: string): Promise<void> {
    await this.events.change(async (tx) => {
      const name = await removePasskey(tx, Buffer.from(id, 'base64url'), who.personId);
      if (name === null) throw notFound('This passkey');
      await this.told(tx, who, 'person.passkey-removed', { name });
    });
    this.mail.hurry();
  }

  /** What a device is told that is to sign somebody in, whoever that is. */
  async beginSignIn(at: AskedAt, fromAddress: string) {
    await this.attempts.take(`passkey from ${sourceOf(fromAddress)}`, TRIES.perSource);
    const hindrance = hindranceAt(at);
    if (hindrance) throw new Problem('conflict', 'passkey.no-name', hindrance);
    const options = await generateAuthenticationOptions({ rpID: at.host, userVerification: 'required' });
    await this.keepChallenge(options.challenge, null);
    return options;
  }

  /** Whom a device has signed for. @throws Problem passkey.refused, in the same words for whatever is wrong */
  async signedBy({ response }: PasskeySignIn, at: AskedAt, fromAddress: string): Promise<string> {
    await this.attempts.take(`passkey from ${sourceOf(fromAddress)}`, TRIES.perSource);
    const challenge = await this.challengeOf(response.response.clientDataJSON, null);
    const key = await passkeyById(this.db.manager, Buffer.from(response.id, 'base64url'));
    if (!key) throw refused();
    const seen = await this.verified(response, key, challenge, at);
    // A counter that stands still or goes back is a copy of the device's key: whoever was later is refused.
    if (!(await passkeyUsed(this.db.manager, key, seen, this.clock.date()))) throw refused();
    return key.personId;
  }

  private async verified(
    response: PasskeySignIn['response'],
    key: PasskeyRecord,
    challenge: string,
    at: AskedAt,
  ): Promise<number> {
    const found = await verifyAuthenticationResponse({
      response: response as never,
      expectedChallenge: challenge,
      expectedOrigin: at.origin,
      // The name that it was made for, whatever the server is called by now.
      expectedRPID: key.host,
      credential: {
        id: key.id.toString('base64url'),
        publicKey: new Uint8Array(key.publicKey),
        counter: key.counter,
      },
      requireUserVerification: true,
    }).catch(refusedBecause);
    if (!found.verified) throw refused();
    return found.authenticationInfo.newCounter;
  }

  private async keepChallenge(challenge: string, personId: string | null): Promise<void> {
    const now = this.clock.date();
    await insertChallenge(this.db.manager, {
      ...{ hash: secretHash(challenge), personId, now },
      endsAt: new Date(now.getTime() + CHALLENGE_MS),
    });
  }

  /** The challenge that was signed: one that was given out, to nobody else, within minutes, and is used up by this. */
  private async challengeOf(clientDataJSON: string, personId: string | null): Promise<string> {
    const challenge = challengeIn(clientDataJSON);
    if (
      challenge === null ||
      !(await takeChallenge(this.db.manager, secretHash(challenge), personId, this.clock.date()))
    )
      throw refused();
    return challenge;
  }

  private async told(tx: EntityManager, who: Who, kind: string, detail: Record<string, string>): Promise<void> {
    const { email } = await tx.findOneByOrFail(Person, { id: who.personId });
    await this.events.tell(tx, { topic: 'session', id: who.personId });
    const what = kind === 'person.passkey-added' ? 'was added to' : 'was removed from';
    await this.mail.handIn(tx, {
      to: email,
      subject: kind === 'person.passkey-added' ? 'A passkey was added' : 'A passkey was removed',
      text: `Hello ${who.name},\n\nthe passkey “${detail['name']}” ${what} your account.\nIf that was not you, tell whoever runs the server at once.\n`,
    });
    await this.ledger.append(tx, { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail });
  }
}

/** Why a device keeps no key for where the server was asked; null: it does. */
function hindranceAt({ host }: AskedAt): string | null {
  // Web Authentication, 5.1.2: an effective domain; an address of the network is none.
  return isIP(host) || host === ''
    ? 'A passkey belongs to a name: open this server by its name, not by an address of the network.'
    : null;
}

function challengeIn(clientDataJSON: string): string | null {
  try {
    const { challenge } = JSON.parse(Buffer.from(clientDataJSON, 'base64url').toString()) as { challenge?: unknown };
    return typeof challenge === 'string' ? challenge : null;
  } catch {
    return null;
  }
}

const refused = (): Problem =>
  new Problem(
    'unauthenticated',
    'passkey.refused',
    'That passkey does not open this account. Sign in by name and password.',
  );

function refusedBecause(error: unknown): never {
  log.info({ reason: (error as Error).message }, 'a passkey was refused');
  throw refused();
}
