import { Injectable } from '@nestjs/common';
import { intakeState, MOST_ASKED_BACK } from '@quay/core';
import type { AskBack, DepositRow } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { lockAccess } from '../access/access-lock.js';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { mailAddressOf } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { askedBack, mailOf, type DepositRecord } from './deposits.queries.js';
import { factsOf, holdIntake, intakeById, type IntakeRecord } from './intakes.queries.js';
import { IntakesService } from './intakes.service.js';
import { TrayService } from './tray.service.js';

/** Contributors are asked about what they handed in, and answer by handing in more. */
@Injectable()
export class AskingBackService {
  constructor(
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
    private readonly mail: Mail,
    private readonly intakes: IntakesService,
    private readonly tray: TrayService,
  ) {}

  /**
   * It stands on the receipt, and goes out by mail with the link of that, where an address was left.
   * @throws Problem deposit.cannot-answer, deposit.asked-enough
   */
  async ask(who: Who, id: string, { words }: AskBack): Promise<DepositRow> {
    const { intake, deposit } = await this.tray.open(who, id);
    await this.access.ensure(who);
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await this.access.requireNode(who, intake.folderId, 'add', tx);
      await holdIntake(tx, intake.id);
      const present = await intakeById(tx, this.clock.date(), intake.id);
      // What nobody could answer is not asked.
      if (!present || intakeState(factsOf(present), this.clock.now()) !== 'open') throw cannotAnswer();
      const before = await askedBack(tx, [id]);
      if (before.length >= MOST_ASKED_BACK) throw askedEnough();
      await tx.query(
        'INSERT INTO deposit_question (id, deposit_id, words, asked_at, asked_by) VALUES ($1, $2, $3, $4, $5)',
        [uuidv7(), id, words, this.clock.date(), who.personId],
      );
      if (mailOf(deposit) !== '') await this.send(tx, who, intake, deposit, words);
      await this.events.tell(tx, { topic: 'intake', id: intake.id });
      await this.ledger.append(tx, {
        kind: 'deposit.asked',
        actor: actorOf(who),
        nodeId: intake.folderId,
        detail: { title: intake.title, intake: intake.id, number: deposit.number ?? '', words },
      });
    });
    this.mail.hurry();
    return this.tray.deposit(who, id);
  }

  private async send(
    tx: EntityManager,
    who: Who,
    intake: IntakeRecord,
    deposit: DepositRecord,
    words: string,
  ): Promise<void> {
    const { name: office } = await this.office.settings();
    const replyTo = await mailAddressOf(tx, who.personId);
    await this.mail.handIn(tx, {
      to: mailOf(deposit),
      subject: `About ${deposit.number}: ${intake.title}`,
      text: [
        `${who.name}, ${office}, asks about what you handed in (${deposit.number}):`,
        '',
        words,
        '',
        `Your receipt, from where you can hand in more: ${this.intakes.receiptOf(intake, deposit)}`,
      ].join('\n'),
      ...(replyTo && { replyTo }),
    });
  }
}

const cannotAnswer = (): Problem =>
  new Problem(
    'conflict',
    'deposit.cannot-answer',
    'Nothing can be handed in at this intake now, so nobody could answer. Open it again first.',
  );
const askedEnough = (): Problem =>
  new Problem(
    'conflict',
    'deposit.asked-enough',
    `They were asked ${MOST_ASKED_BACK} times. Write to them another way.`,
  );
