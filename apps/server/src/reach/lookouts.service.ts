import { Inject, Injectable } from '@nestjs/common';
import type { LookoutAsk, LookoutPair, LookoutState } from '@quay/contract';
import { addressText, comesFromOutside, SYSTEM_ACTOR } from '@quay/core';
import { measure, type At, type Measured } from '@quay/probe';
import { randomBytes } from 'node:crypto';
import { lookup } from 'node:dns/promises';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { OwnNetwork } from '../platform/own-network.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { seal, secretHash, unseal } from '../platform/seal.js';
import type { ProbeAsk } from '@quay/probe';
import { lookoutCodeText, readLookoutCode } from './lookout-code.js';
import { measuredIn, MEASURED_MOST, PROBE_MS } from './measured.js';
import { loadAddresses } from './reach.queries.js';

const CODE_MS = 7 * 86_400_000;
const PAIR_MS = 10_000;
/** Measurements for one other office, and tries of codes from one source. */
const ASKED = { perLookout: 120, windowMs: 600_000, pairsPerSource: 10 } as const;

interface LookoutRow {
  id: string;
  name: string;
  url: string | null;
  secretSealed: Buffer;
  isTold: boolean;
}

/**
 * Other Lockfast Quays elsewhere: each looks at the other from outside when it is asked. They know each other by secrets
 * that one code exchanged.
 */
@Injectable()
export class LookoutsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
    private readonly office: Office,
    private readonly attempts: Attempts,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async list(): Promise<LookoutState[]> {
    const rows = await this.db.query<
      {
        id: string;
        name: string;
        url: string | null;
        since: Date;
        answeredAt: Date | null;
        askedAt: Date | null;
        failure: string | null;
      }[]
    >(
      `SELECT id, name, url, since, answered_at AS "answeredAt", asked_at AS "askedAt", failure FROM lookout
        WHERE since IS NOT NULL ORDER BY since, id`,
    );
    return rows.map(({ since, answeredAt, askedAt, ...row }) => ({
      ...row,
      since: since.toISOString(),
      answeredAt: answeredAt?.toISOString() ?? null,
      askedAt: askedAt?.toISOString() ?? null,
    }));
  }

  /** A code for somebody at another office; one that was not taken yet is good for nothing any more. */
  async makeCode(tx: EntityManager): Promise<{ code: string; endsAt: Date }> {
    const url = await this.ownUrl();
    if (!url)
      throw new Problem(
        'conflict',
        'lookout.no-address',
        'The other office must be able to call this one, which has no address for outsiders yet. Make the code there, and take it here.',
      );
    const secret = randomBytes(32).toString('base64url');
    const endsAt = new Date(this.clock.now() + CODE_MS);
    await tx.query('DELETE FROM lookout WHERE since IS NULL');
    await tx.query(`INSERT INTO lookout (id, name, their_hash, code_ends_at) VALUES ($1, '', $2, $3)`, [
      uuidv7(),
      secretHash(secret),
      endsAt,
    ]);
    return { code: lookoutCodeText({ url, secret }), endsAt };
  }

  /**
   * Takes a code that another office made: calls it, and each knows the other from then on.
   * @throws Problem lookout.unreadable, lookout.own, lookout.refused
   */
  async take(text: string, keep: (tx: EntityManager, name: string) => Promise<void>): Promise<void> {
    const code = readLookoutCode(text);
    if (!code)
      throw invalidField(
        'code',
        'lookout.unreadable',
        'That is no code of another Lockfast Quay, or not whole: it begins with look1.',
      );
    const own = await this.ownUrl();
    if (code.url === own) throw invalidField('code', 'lookout.own', 'This code is of this very office.');
    const mine = randomBytes(32).toString('base64url');
    const { name: ownName } = await this.office.settings();
    const told: LookoutPair = { name: ownName, url: own, secret: mine };
    const name = await this.call(code.url, code.secret, told);
    await this.events.change(async (tx) => {
      await tx.query(
        `INSERT INTO lookout (id, name, url, our_secret_sealed, their_hash, since) VALUES ($1, $2, $3, $4, $5, $6)`,
        [uuidv7(), name, code.url, seal(this.config.sealingKey, code.secret), secretHash(mine), this.clock.date()],
      );
      await keep(tx, name);
    });
  }

  /** @returns what the other office is called */
  private async call(url: string, secret: string, told: LookoutPair): Promise<string> {
    const host = new URL(url).host;
    let answer: { status: number; text: string };
    try {
      answer = await this.post(`${url}/reach/probe/pair`, secret, told, PAIR_MS);
    } catch (error) {
      throw invalidField('code', 'lookout.silent', `${host} could not be called: ${(error as Error).message}.`);
    }
    const said = jsonOf(answer.text);
    if (answer.status === 200 && typeof said['name'] === 'string') return oneLine(said['name'], 200);
    const why =
      typeof said['detail'] === 'string'
        ? oneLine(said['detail'], 300)
        : `it answers with the status ${answer.status}.`;
    throw invalidField('code', 'lookout.refused', `${host} refuses: ${why}`);
  }

  /** Another office took a code that was made here. @throws Problem lookout.unknown, lookout.same-network */
  async pair(
    secret: string | null,
    { name, url, secret: theirs }: LookoutPair,
    from: string,
  ): Promise<{ name: string }> {
    await this.attempts.take(`lookout from ${sourceOf(from)}`, ASKED.pairsPerSource);
    const [code] = await this.db.query<{ id: string }[]>(
      'SELECT id FROM lookout WHERE their_hash = $1 AND since IS NULL AND code_ends_at > $2',
      [secretHash(secret ?? ''), this.clock.date()],
    );
    if (!code) throw unknown();
    if (!this.network.isOutside(from))
      throw new Problem(
        'conflict',
        'lookout.same-network',
        'both offices are in one network, so neither sees the other from outside.',
      );
    await this.events.change(async (tx) => {
      const taken = (await tx.query(
        `UPDATE lookout SET name = $2, url = $3, is_told = true, our_secret_sealed = $4, since = $5, code_ends_at = NULL
          WHERE id = $1 AND since IS NULL`,
        [code.id, name, url, seal(this.config.sealingKey, theirs), this.clock.date()],
      )) as [unknown[], number];
      if (taken[1] === 0) throw unknown();
      await this.events.tell(tx, { topic: 'reach', id: 'lookouts' });
      await this.ledger.append(tx, { kind: 'reach.lookout', actor: SYSTEM_ACTOR, detail: { name } });
    });
    return { name: (await this.office.settings()).name };
  }

  /** @returns what it was called. @throws Problem not-found */
  async forget(tx: EntityManager, id: string): Promise<string> {
    const [rows] = (await tx.query('DELETE FROM lookout WHERE id = $1 AND since IS NOT NULL RETURNING name', [id])) as [
      { name: string }[],
      number,
    ];
    if (!rows[0]) throw notFound('This office');
    return rows[0].name;
  }

  /** Codes that nobody took in time. */
  async tidy(): Promise<void> {
    await this.db.query('DELETE FROM lookout WHERE since IS NULL AND code_ends_at < $1', [this.clock.date()]);
  }

  /**
   * Looks for another office: only at public addresses, and only at what shows whether a way in works. Of pages nothing is
   * told but the proof that it asked for. @throws Problem lookout.unknown
   */
  async lookFor(secret: string | null, { url, ask }: LookoutAsk): Promise<Measured> {
    const [asking] = await this.db.query<{ id: string }[]>(
      'SELECT id FROM lookout WHERE their_hash = $1 AND since IS NOT NULL',
      [secretHash(secret ?? '')],
    );
    if (!asking) throw unknown();
    await this.attempts.take(`lookout ${asking.id}`, ASKED.perLookout, ASKED.windowMs);
    await this.db.query(
      'UPDATE lookout SET asked_at = $2, url = CASE WHEN is_told THEN $3 ELSE url END WHERE id = $1',
      [asking.id, this.clock.date(), url],
    );
    const way = this.dialler.way(null);
    const found = await measure(ask, {
      ...way,
      place: (address, port) => (this.isElsewhere(address) ? way.place(address, port) : null),
    });
    return { ...found, ...onlyProof(found), others: found.others.map(onlyProof) };
  }

  /** Whether another office looks for this one. */
  async any(): Promise<boolean> {
    return (await this.known()).length > 0;
  }

  /** Asks one of the others to look; the one that answered last, first. @throws Error when none answers */
  async ask(ask: ProbeAsk): Promise<Measured> {
    const own = await this.ownUrl();
    let failure = 'no other office is known';
    for (const { id, name, url, secretSealed, isTold } of await this.known()) {
      try {
        const told: LookoutAsk = { url: own, ask };
        const secret = unseal(this.config.sealingKey, secretSealed);
        const { status, text } = await this.post(`${url}/reach/probe/look`, secret, told, PROBE_MS, isTold);
        if (status === 401) throw new Error('it does not know this office any more');
        const found = measuredIn(status, text);
        await this.note(id, null);
        return { ...found, exchange: [`asked of ${name}`, ...found.exchange] };
      } catch (error) {
        failure = `${name}: ${(error as Error).message}`;
        await this.note(id, (error as Error).message);
      }
    }
    throw new Error(failure);
  }

  private known(): Promise<LookoutRow[]> {
    return this.db.query<LookoutRow[]>(
      `SELECT id, name, url, our_secret_sealed AS "secretSealed", is_told AS "isTold" FROM lookout
        WHERE since IS NOT NULL AND url IS NOT NULL ORDER BY failure IS NOT NULL, answered_at DESC NULLS LAST, id`,
    );
  }

  private async note(id: string, failure: string | null): Promise<void> {
    await this.db.query(
      'UPDATE lookout SET failure = $2, answered_at = CASE WHEN $2::text IS NULL THEN $3 ELSE answered_at END WHERE id = $1',
      [id, failure?.slice(0, 300) ?? null, this.clock.date()],
    );
  }

  /** @param elsewhere only where the world is: nobody who is not of this office has it call a machine inside */
  private async post(url: string, secret: string, body: object, timeoutMs: number, elsewhere = false) {
    const headers = { authorization: `Bearer ${secret}`, 'content-type': 'application/json' };
    const via = elsewhere ? { address: await this.addressElsewhere(new URL(url).hostname) } : undefined;
    return this.dialler.http('POST', url, headers, JSON.stringify(body), timeoutMs, MEASURED_MOST, via);
  }

  /** @throws Error when a name leads to no such address */
  private async addressElsewhere(host: string): Promise<string> {
    const found = await lookup(host.replace(/^\[|\]$/g, ''), { all: true, order: 'ipv4first' });
    const address = found.map((f) => f.address).find((a) => this.isElsewhere(a));
    if (!address) throw new Error(`${host} leads to no public address`);
    return address;
  }

  /** Whether an address is public, and not near this machine. */
  private isElsewhere(address: string): boolean {
    return comesFromOutside(address) && !this.network.isNear(address);
  }

  /** Where others call this office; null: nowhere. */
  private async ownUrl(): Promise<string | null> {
    const addresses = await loadAddresses(this.db.manager, this.clock.date());
    const own = addresses.find((a) => a.scheme === 'https' && a.wayIn !== 'office');
    return own ? addressText(own) : null;
  }
}

/** Of a page nothing but a proof: whoever asks learns nothing of what else is there. */
function onlyProof<T extends At>(at: T): T {
  const proof = /quay-proof [\w-]{43}/.exec(at.page?.body ?? '')?.[0] ?? '';
  return { ...at, page: at.page && { ...at.page, body: proof } };
}

/** What another office says, without what no text of one line has. */
const oneLine = (text: string, most: number): string => text.replace(/\p{C}/gu, ' ').slice(0, most);

function jsonOf(text: string): Record<string, unknown> {
  try {
    const read = JSON.parse(text) as unknown;
    return typeof read === 'object' && read !== null ? (read as Record<string, unknown>) : {};
  } catch {
    return {};
  }
}

const unknown = (): Problem =>
  new Problem('unauthenticated', 'lookout.unknown', 'The code was used, has ended, or is of another office.');
