import { Inject, Injectable } from '@nestjs/common';
import type { RelayState } from '@quay/contract';
import { readInvitation, type Invitation } from '@quay/relay';
import type { Socket } from 'node:net';
import { isIP } from 'node:net';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { invalidField } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';
import { RelayLine } from './relay-line.js';

type Enter = (host: string, socket: Socket, from: string) => void;

/** The relay that the office was invited to, and the line to it that this process keeps. */
@Injectable()
export class RelayLines {
  private line: RelayLine | null = null;
  private enter: Enter | null = null;
  /** Names that are not reached through the relay yet, and may be. */
  private readonly tried = new Set<string>();
  private ended = false;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** What the office was invited with; null: nobody invited it. */
  async invitation(): Promise<{ invitation: Invitation; from: 'file' | 'settings' } | null> {
    const said = this.config.reach.relay;
    if (said !== null) return { invitation: readInvitation(said) as Invitation, from: 'file' };
    const [row] = await this.db.query<{ code: Buffer }[]>('SELECT code_sealed AS code FROM relay_invitation');
    const invitation = row ? readInvitation(unseal(this.config.sealingKey, row.code)) : null;
    return invitation && { invitation, from: 'settings' };
  }

  /** Keeps an invitation, in the place of another. @throws Problem reach.invitation-unreadable */
  async accept(tx: EntityManager, code: string): Promise<Invitation> {
    const invitation = readInvitation(code);
    if (!invitation)
      throw invalidField(
        'code',
        'reach.invitation-unreadable',
        'That is no invitation of a relay, or a part of it is missing: copy it whole, from "relay1." to its end.',
      );
    await tx.query(
      `INSERT INTO relay_invitation (code_sealed, accepted_at) VALUES ($1, $2)
       ON CONFLICT (one) DO UPDATE SET code_sealed = $1, accepted_at = $2`,
      [seal(this.config.sealingKey, code.trim()), this.clock.date()],
    );
    return invitation;
  }

  /** Declines it again; lines end. */
  async decline(tx: EntityManager): Promise<void> {
    await tx.query('DELETE FROM relay_invitation');
  }

  /**
   * Keeps a line where the office is invited, for the names that are reached through the relay now.
   * @param enter takes in who comes by it: the name they asked for, and where the relay saw them
   */
  async keep(enter: Enter): Promise<void> {
    this.enter = enter;
    const found = await this.invitation();
    if (this.ended) return;
    const to = found?.invitation ?? null;
    if (!to || !this.line || !isSame(this.line.to, to)) {
      this.line?.stop();
      this.line = to && new RelayLine(to, this.dialler, enter);
    }
    await this.sayNames();
  }

  end(): void {
    this.ended = true;
    this.line?.stop();
    this.line = null;
  }

  /** How the line of this process stands; null: the office is not invited anywhere. */
  async state(): Promise<RelayState | null> {
    const found = await this.invitation();
    if (!found) return null;
    const { host, office } = found.invitation;
    const { standing = null, trouble = 'No line is kept by this process' } = this.line ?? {};
    return {
      host,
      office,
      from: found.from,
      trouble,
      names: standing?.names ?? [],
      addresses: standing?.addresses ?? [],
    };
  }

  /** Where names must lead to come to the relay; empty while it has not said so. */
  async addresses(): Promise<string[]> {
    const said = this.line?.standing?.addresses ?? [];
    if (said.length > 0) return said;
    const host = (await this.invitation())?.invitation.host ?? '';
    return isIP(host) ? [host] : [];
  }

  /**
   * Waits until the relay passes a name on to this office, at most as long as is said. Nothing else changes by it.
   * @returns why it does not; null when it does
   */
  async standing(name: string, waitMs: number): Promise<string | null> {
    const host = name.toLowerCase();
    this.tried.add(host);
    try {
      if (this.enter) await this.keep(this.enter);
      for (const until = Date.now() + waitMs; ;) {
        const standing = this.line?.standing;
        if (standing?.serves.includes(host)) return null;
        if (standing?.refused.includes(host)) return `${host} is not this office's there`;
        if (Date.now() >= until) return this.line?.trouble ?? 'No line is kept';
        await new Promise((resolve) => setTimeout(resolve, 50));
      }
    } finally {
      this.tried.delete(host);
    }
  }

  private async sayNames(): Promise<void> {
    const rows = await this.db.query<{ host: string }[]>(
      `SELECT DISTINCT lower(host) AS host FROM address WHERE way_in = 'relay'`,
    );
    this.line?.setNames([...new Set([...rows.map((r) => r.host), ...this.tried])]);
  }
}

const isSame = (a: Invitation, b: Invitation): boolean =>
  a.host === b.host && a.port === b.port && a.office === b.office && a.secret.equals(b.secret);
