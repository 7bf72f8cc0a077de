import { Injectable, type OnModuleInit } from '@nestjs/common';
import { intakeState, momentInWords } from '@quay/core';
import type { Reminded } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { AccessService } from '../access/access.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { expectedOf, factsOf, holdIntake, intakeById, toRemind, type IntakeRecord } from './intakes.queries.js';
import { IntakesService } from './intakes.service.js';

/** Nobody is written to again before. */
const LATELY_MS = 12 * 3_600_000;
/** As many as a list has. */
const MOST = 5000;

/** Those who were asked by name and have handed nothing in are written to, by hand and by rule. */
@Injectable()
export class RemindersService implements OnModuleInit {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
    private readonly mail: Mail,
    private readonly intakes: IntakesService,
    private readonly housekeeping: Housekeeping,
  ) {}

  onModuleInit(): void {
    this.housekeeping.add('reminders of intakes', () => this.byRule());
  }

  /** @throws Problem intake.not-open, mail.none */
  async remind(who: Who, id: string): Promise<Reminded> {
    const intake = await this.intakes.open(who, id);
    if (!(await this.mail.canSend(this.db.manager)))
      throw new Problem('conflict', 'mail.none', 'No mail server is set up, so nobody can be written to.');
    await this.access.ensure(who);
    const reminded = await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await this.access.requireNode(who, intake.folderId, 'add', tx);
      const present = await this.held(tx, id);
      if (!present) throw new Problem('conflict', 'intake.not-open', 'Nothing can be handed in there now.');
      return this.write(tx, present, actorOf(who));
    });
    this.mail.hurry();
    return reminded;
  }

  private async byRule(): Promise<void> {
    // Who cannot be written to now is, once a mail server is there.
    if (!(await this.mail.canSend(this.db.manager))) return;
    for (const { id } of await toRemind(this.db.manager, this.clock.date())) {
      await this.events.change(async (tx) => {
        const intake = await this.held(tx, id);
        await tx.query('UPDATE intake SET reminded_of = closes_at WHERE id = $1', [id]);
        if (intake) await this.write(tx, intake, { kind: 'system', id: null, name: 'Lockfast Quay' });
      });
      this.mail.hurry();
    }
  }

  /** The intake, held until the transaction ends; null: nothing can be handed in there now. */
  private async held(tx: EntityManager, id: string): Promise<IntakeRecord | null> {
    await holdIntake(tx, id);
    const intake = await intakeById(tx, this.clock.date(), id);
    return intake && intakeState(factsOf(intake), this.clock.now()) === 'open' ? intake : null;
  }

  private async write(tx: EntityManager, intake: IntakeRecord, actor: NewEntry['actor']): Promise<Reminded> {
    const now = this.clock.now();
    const missing = (await expectedOf(tx, intake.id, MOST)).filter((e) => e.handedInAt === null);
    const reachable = missing.filter((e) => e.mail !== null);
    const due = reachable.filter((e) => e.remindedAt === null || e.remindedAt.getTime() <= now - LATELY_MS);
    const text = await this.textOf(intake);
    for (const { mail } of due) await this.mail.handIn(tx, { to: mail as string, subject: subjectOf(intake), text });
    await tx.query(
      `INSERT INTO intake_reminder (intake_id, who, at) SELECT $1, unnest($2::text[]), $3
        ON CONFLICT (intake_id, who) DO UPDATE SET at = excluded.at`,
      [intake.id, due.map((e) => e.key), this.clock.date()],
    );
    if (due.length > 0) {
      await this.events.tell(tx, { topic: 'intake', id: intake.id });
      await this.ledger.append(tx, {
        ...{ kind: 'intake.reminded', actor, nodeId: intake.folderId },
        detail: { title: intake.title, intake: intake.id, people: due.length },
      });
    }
    return {
      written: due.length,
      lately: reachable.length - due.length,
      without: missing.length - reachable.length,
    };
  }

  private async textOf(intake: IntakeRecord): Promise<string> {
    const { name: office, zone } = await this.office.settings();
    const { closesAt, creatorName, title, message, passwordHash } = intake;
    const until =
      closesAt === null ? [] : [`It is open until ${momentInWords(closesAt.getTime(), this.clock.now(), zone)}.`];
    return [
      `${creatorName}, ${office}, asks you for files: ${title}. Nothing has come from you yet.`,
      ...(message === '' ? [] : ['', message]),
      '',
      `Hand them in here: ${this.intakes.linkOf(intake)}`,
      ...until,
      ...(passwordHash === null ? [] : ['It asks for a password, which you get another way.']),
    ].join('\n');
  }
}

const subjectOf = ({ title }: IntakeRecord): string => `Files that you are asked for: ${title}`;
