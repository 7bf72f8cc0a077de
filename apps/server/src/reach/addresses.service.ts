import { Inject, Injectable } from '@nestjs/common';
import type { AddressRow, AddressSheet, AffectedLink, ChangeAddress, NewAddress } from '@quay/contract';
import { addressFault, addressText, guideOf, plainPort, portOf, shareLink, type Address } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { unseal } from '../platform/seal.js';
import { leaveAddress, linksOn, moveLinksTo, sharesOn } from '../shares/links.queries.js';
import { namesAddress } from '../shares/guardrails.queries.js';
import { actorOf } from '../stores/names.js';
import { CheckService } from './check.service.js';
import { OrdersService } from './orders.service.js';
import { NameServersService } from './name-servers.service.js';
import {
  addressRow,
  GUIDE_OF_NAME,
  insertAddress,
  loadAddresses,
  loadChecks,
  type AddressRecord,
} from './reach.queries.js';
import { RelayLines } from './relay-lines.js';
import { RouterService } from './router.service.js';
import { UpkeepService } from './upkeep.service.js';
import { OwnNetwork } from '../platform/own-network.js';

const HISTORY = 60;

/** The public base addresses that links are built on. */
/** Links that are listed; how many there are stands beside. */
const MOST_LINKS = 500;

@Injectable()
export class AddressesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly names: NameServersService,
    private readonly router: RouterService,
    private readonly checks: CheckService,
    private readonly upkeep: UpkeepService,
    private readonly orders: OrdersService,
    private readonly relays: RelayLines,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly network: OwnNetwork,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async list(): Promise<AddressRow[]> {
    return (await loadAddresses(this.db.manager, this.clock.date())).map(addressRow);
  }

  async require(id: string, m: EntityManager = this.db.manager): Promise<AddressRecord> {
    const [record] = await loadAddresses(m, this.clock.date(), id);
    if (!record) throw notFound('This address');
    return record;
  }

  async sheet(id: string): Promise<AddressSheet> {
    const record = await this.require(id);
    const { insideAddress } = this.network;
    const { insidePorts } = this.config.reach;
    const [history, upkeep, order, relay, canUpdateRecords, { line }] = await Promise.all([
      loadChecks(this.db.manager, id, HISTORY),
      this.upkeep.of(record),
      this.orders.of(id),
      this.relays.addresses(),
      this.names.canUpdate('public', record.host),
      record.wayIn === 'mapping' ? this.router.line() : { line: { seenAddress: null, routerAddress: null } },
    ]);
    const guide = guideOf({
      wayIn: record.wayIn,
      address: record,
      server: { address: insideAddress, tlsPort: insidePorts.tls, plainPort: insidePorts.plain },
      publicAddress: line.seenAddress ?? line.routerAddress,
      six: this.network.insideAddress6,
      canUpdateRecords,
      relayHost: relay[0] ?? null,
    });
    return {
      ...addressRow(record),
      guide: guide.map((entry) => ({ ...entry, done: record.guide[entry.step] ?? null })),
      check: history[0] ?? null,
      history: history.map(({ vantages: _, ...h }) => h),
      upkeep,
      order,
    };
  }

  async add(who: Who, asked: NewAddress): Promise<AddressRow> {
    requireSound(asked);
    const id = await this.events.change(async (tx) => {
      await this.requireFree(tx, asked, null);
      const [any] = await tx.query<object[]>('SELECT 1 FROM address WHERE is_default');
      const added = await insertAddress(tx, { ...asked, isDefault: !any }, this.clock.date());
      await this.events.tell(tx, { topic: 'reach', id: added }, { topic: 'session', id: 'address' });
      await this.ledger.append(tx, {
        kind: 'address.added',
        actor: actorOf(who),
        detail: { address: addressText(asked), wayIn: asked.wayIn },
      });
      return added;
    });
    this.checks.checkAside(id, 'change');
    return addressRow(await this.require(id));
  }

  /** Changes what is named. Where links that could still be opened would change, they must have been seen. */
  async change(who: Who, id: string, asked: ChangeAddress): Promise<AddressRow> {
    let needs: number[] | null = null;
    await this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM address WHERE id = $1 FOR UPDATE', [id]);
      const before = await this.require(id, tx);
      const after: NewAddress = {
        scheme: asked.scheme ?? before.scheme,
        host: asked.host ?? before.host,
        port: asked.port === undefined ? before.port : asked.port,
        pathPrefix: asked.pathPrefix ?? before.pathPrefix,
        wayIn: asked.wayIn ?? before.wayIn,
        uses: asked.uses ?? before.uses,
      };
      requireSound(after);
      // What is no longer needed does not stay open.
      if (before.wayIn === 'mapping' || before.fellFrom === 'mapping')
        needs = after.wayIn === 'mapping' ? [portOf(after), 80] : [];
      const moves = addressText(after) !== addressText(before);
      if (moves && before.shareCount > 0 && !asked.linksSeen) throw linksStand(before.shareCount);
      if (moves) await this.requireFree(tx, after, id);
      if (asked.isDefault) await tx.query('UPDATE address SET is_default = false WHERE is_default');
      // A guide is about a name and a way in: when the name changes it begins again, and with another way in its part.
      const again = after.wayIn !== before.wayIn;
      await tx.query(
        `UPDATE address SET scheme = $2, host = $3, port = $4, path_prefix = $5, way_in = $6, uses = $7,
          is_default = is_default OR $8, fallback = $9, redirect = $10, hsts = $11,
          guide = CASE WHEN $13 THEN '{}'::jsonb WHEN $12 THEN ${GUIDE_OF_NAME} ELSE guide END,
          fell_from = CASE WHEN $12 OR $13 THEN NULL ELSE fell_from END WHERE id = $1`,
        [
          id,
          after.scheme,
          after.host,
          plainPort(after),
          after.pathPrefix,
          after.wayIn,
          after.uses,
          asked.isDefault ?? false,
          asked.fallback ?? before.fallback,
          asked.redirect ?? before.redirect,
          asked.hsts ?? before.hsts,
          again,
          moves,
        ],
      );
      await this.tellShares(tx, id);
      const what = Object.keys(asked)
        .filter((k) => k !== 'linksSeen')
        .map((k) => WHAT[k] ?? k)
        .join(', ');
      await this.ledger.append(tx, {
        kind: 'address.changed',
        actor: actorOf(who),
        detail: { address: addressText(after), ...(moves && { before: addressText(before) }), what },
      });
    });
    if (needs) await this.router.unmap(id, needs);
    this.checks.checkAside(id, 'change');
    return addressRow(await this.require(id));
  }

  /** Links that could still be opened and are built on an address. */
  async links(who: Who, id: string): Promise<AffectedLink[]> {
    const address = await this.require(id);
    const rows = await linksOn(this.db.manager, id, who.personId, this.clock.date(), MOST_LINKS);
    // The link of what is shared from a home is its owner's to hand on.
    return rows.map((r) => ({
      shareId: r.shareId,
      title: r.closed ? "From somebody's home" : r.title,
      link: r.closed ? null : shareLink(address, unseal(this.config.sealingKey, r.tokenSealed)),
      handedOver: r.visits > 0,
    }));
  }

  /**
   * Builds the links of one address on another from now on. Old links go on working where the old address still leads
   * here.
   */
  async moveLinks(who: Who, id: string, to: string): Promise<{ moved: number }> {
    let moved = 0;
    await this.events.change(async (tx) => {
      const [from, target] = [await this.require(id, tx), await this.require(to, tx)];
      if (id === to) throw invalidField('to', 'address.same', 'The links are built on that address already.');
      await this.tellShares(tx, id);
      const count = await moveLinksTo(tx, id, to, this.clock.date());
      moved = count;
      await this.ledger.append(tx, {
        kind: 'address.links-moved',
        actor: actorOf(who),
        detail: { from: addressText(from), to: addressText(target), count },
      });
    });
    return { moved };
  }

  /** @throws Problem address.in-use, address.is-default, address.in-guardrail */
  async remove(who: Who, id: string): Promise<void> {
    const record = await this.require(id);
    let unused: Awaited<ReturnType<RouterService['bequeathed']>> = [];
    await this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM address WHERE id = $1 FOR UPDATE', [id]);
      const now = await this.require(id, tx);
      if (now.shareCount > 0) throw linksStand(now.shareCount);
      if (now.isDefault)
        throw new Problem(
          'conflict',
          'address.is-default',
          'New links are built on this address. Choose another for them first.',
        );
      if (await namesAddress(tx, id))
        throw new Problem(
          'conflict',
          'address.in-guardrail',
          'A guardrail has links built on this address. Take it off there first, under Settings, Shares.',
        );
      unused = await this.router.bequeathed(tx, id);
      await leaveAddress(tx, id);
      await tx.query('DELETE FROM address WHERE id = $1', [id]);
      await this.events.tell(tx, { topic: 'reach', id });
      await this.ledger.append(tx, {
        kind: 'address.removed',
        actor: actorOf(who),
        detail: { address: addressText(record) },
      });
    });
    await this.router.close(unused);
  }

  private async requireFree(tx: EntityManager, asked: Address, but: string | null): Promise<void> {
    const [taken] = await tx.query<object[]>(
      `SELECT 1 FROM address WHERE scheme = $1 AND lower(host) = $2 AND coalesce(port, 0) = $3 AND path_prefix = $4
        AND id IS DISTINCT FROM $5`,
      [asked.scheme, asked.host, plainPort(asked) ?? 0, asked.pathPrefix, but],
    );
    if (taken) throw new Problem('conflict', 'address.exists', `${addressText(asked)} is there already.`);
  }

  private async tellShares(tx: EntityManager, addressId: string): Promise<void> {
    const shares = await sharesOn(tx, addressId);
    await this.events.tell(
      tx,
      { topic: 'reach', id: addressId },
      { topic: 'session', id: 'address' },
      ...shares.map((s) => ({ topic: 'share' as const, id: s.id })),
    );
  }
}

const WHAT: Record<string, string> = {
  isDefault: 'new links are built on it',
  uses: 'what it may be used for',
  wayIn: 'way in',
  hsts: 'HSTS',
  pathPrefix: 'path',
};

function requireSound(a: NewAddress): void {
  const fault = addressFault(a);
  if (fault)
    throw invalidField('scheme', fault, 'An address for outsiders is encrypted: passwords would travel readable.');
}

function linksStand(count: number): Problem {
  return new Problem(
    'conflict',
    'address.in-use',
    `${count === 1 ? 'One link that could still be opened is' : `${count} links that could still be opened are`} built on this address. Look at them and move them to another first.`,
  );
}
