import { Inject, Injectable } from '@nestjs/common';
import { initialsOf } from '@quay/core';
import type { MailServer, SetupOffice, SetupPlace, SetupStores, SetupWayIn, SetupYou } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { insertGrant } from '../access/grants.queries.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { addPerson } from '../people/people.queries.js';
import { SessionService, type SignedInFrom } from '../people/session.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { keepMailServer } from '../platform/mail-server.js';
import { beginOffice } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { unseal } from '../platform/seal.js';
import { insertAddress } from '../reach/reach.queries.js';
import { makeStore } from '../stores/make-store.js';
import { preparePlace } from './places.js';

/** Answers as they are kept: of passwords only what they are needed for. */
export interface Answers {
  office?: SetupOffice;
  you?: Omit<SetupYou, 'password'> & { passwordHash: string };
  place?: SetupPlace & { words: string; mark: 'ok' | 'warn' | 'fail' };
  stores?: SetupStores;
  mail?: { later: true } | (Omit<MailServer, 'password'> & { later?: false; passwordSealed: string | null });
  wayIn?: SetupWayIn;
}

export interface Begun {
  office: string;
  stores: number;
  /** The admin's session; null where none was begun. */
  session: { secret: string; device: string } | null;
  /** Bytes lie elsewhere than this process was told when it started: it must start anew. */
  restarts: boolean;
}

/** Makes an office of the answers of the first start. */
@Injectable()
export class OfficeMaker {
  constructor(
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly sessions: SessionService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /**
   * @param answersIn gives the answers, held until the transaction ends, so that nobody changes them meanwhile and an
   *   office is made once
   * @param from where the admin sits, who is signed in; null: nobody is
   */
  async make(answersIn: (tx: EntityManager) => Promise<Required<Answers>>, from: SignedInFrom | null): Promise<Begun> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const answers = await answersIn(tx);
      await this.prepare(answers.place.folder);
      const now = this.clock.date();
      const { office, you, stores } = answers;
      await beginOffice(tx, {
        ...office,
        homes: stores.homes,
        insideOnly: answers.wayIn.kind === 'inside',
        blobRoot: answers.place.folder,
      });
      const personId = await addPerson(tx, { ...you, initials: initialsOf(you.name), role: 'admin' }, now);
      const actor = { kind: 'person' as const, id: personId, name: you.name };
      const told: NewEntry[] = [
        { kind: 'office.begun', actor, detail: { name: office.name, zone: office.zone } },
        { kind: 'person.added', actor, detail: { name: you.name, role: 'admin' } },
        ...(await this.makeStores(tx, stores, actor, now)),
        ...(await this.keepMail(tx, answers.mail, actor, now)),
        await this.addAddress(tx, answers.wayIn, actor, now),
      ];
      await tx.query('DELETE FROM setup');
      const session =
        from === null ? null : await this.sessions.open(tx, { id: personId, ...you }, now, { ...from, by: 'password' });
      // Other processes see by it that there is an office.
      await this.events.tell(tx, { topic: 'session', id: personId });
      if (from !== null) told.push({ kind: 'person.signed-in', actor, detail: { from: from.fromAddress } });
      await this.ledger.append(tx, ...told);
      return {
        session,
        office: office.name,
        stores: stores.names.length,
        restarts: answers.place.folder !== this.config.blobRoot,
      };
    });
  }

  private async prepare(folder: string): Promise<void> {
    try {
      await preparePlace(folder);
    } catch (error) {
      const { message } = error as Error;
      throw new Problem('conflict', 'place.refused', `${folder} cannot be used any more: ${message}`);
    }
  }

  private async makeStores(
    tx: EntityManager,
    { names, homes }: SetupStores,
    actor: { kind: 'person'; id: string; name: string },
    at: Date,
  ): Promise<NewEntry[]> {
    const told: NewEntry[] = [];
    for (const name of names) {
      const { rootId } = await makeStore(tx, { kind: 'common', name, ownerId: null }, at);
      const everybody = { kind: 'staff' as const, id: null };
      await insertGrant(tx, {
        folderId: rootId,
        subject: everybody,
        level: 'edit',
        since: at,
        until: null,
        by: actor.id,
      });
      told.push({ kind: 'store.made', actor, nodeId: rootId, detail: { name } });
    }
    if (homes) await makeStore(tx, { kind: 'home', name: actor.name, ownerId: actor.id }, at);
    return told;
  }

  private async keepMail(
    tx: EntityManager,
    mail: Required<Answers>['mail'],
    actor: NewEntry['actor'],
    at: Date,
  ): Promise<NewEntry[]> {
    if (mail.later) return [];
    const { passwordSealed, ...server } = mail;
    const key = this.config.sealingKey;
    const password = passwordSealed === null ? undefined : unseal(key, Buffer.from(passwordSealed, 'base64'));
    await keepMailServer(tx, key, { ...server, password }, at);
    return [{ kind: 'office.mail', actor, detail: { host: server.host, sender: server.sender } }];
  }

  /** Where people in the office find the server: links are built on it until there is a way in from outside. */
  private async addAddress(
    tx: EntityManager,
    { inside }: SetupWayIn,
    actor: NewEntry['actor'],
    at: Date,
  ): Promise<NewEntry> {
    const url = new URL(inside);
    await insertAddress(
      tx,
      {
        scheme: url.protocol === 'https:' ? 'https' : 'http',
        host: url.hostname.replace(/^\[|\]$/g, ''),
        port: url.port === '' ? null : Number(url.port),
        pathPrefix: '',
        wayIn: 'office',
        uses: 'sign-in',
        isDefault: true,
      },
      at,
    );
    return { kind: 'address.added', actor, detail: { address: inside.replace(/\/$/, '') } };
  }
}
