import { Inject, Injectable } from '@nestjs/common';
import {
  checksumList,
  formatSize,
  receiptNumber,
  receiptText,
  RECEIPT_BYTES,
  type IntakeAnswers,
  type Receipt,
} from '@quay/core';
import type { HandedIn } from '@quay/contract';
import { createHash, randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { NoticesService } from '../people/notices.service.js';
import { knowVisitor } from '../people/people.queries.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { seal, secretHash } from '../platform/seal.js';
import { ContentService } from './content.service.js';
import {
  askedBack,
  depositById,
  depositByReceipt,
  filesOf,
  mailOf,
  type AskedBackRecord,
  type DepositRecord,
} from './deposits.queries.js';
import { IntakeDoorService, requireAnswers, type Contributor } from './door.service.js';
import type { IntakeRecord } from './intakes.queries.js';
import { IntakesService } from './intakes.service.js';
import { ScannerService } from './scanner.service.js';
import { TrayService } from './tray.service.js';

/** A receipt with what became of it. */
export interface ReceiptShown {
  receipt: Receipt;
  deposit: DepositRecord;
  /** SHA-256 of its text, in hexadecimal, as it stands in the ledger. */
  hash: string;
  askedBack: readonly AskedBackRecord[];
}

/** What is being handed in is handed in, and gets a receipt. */
@Injectable()
export class HandingInService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly notices: NoticesService,
    private readonly mail: Mail,
    private readonly doors: IntakeDoorService,
    private readonly content: ContentService,
    private readonly intakes: IntakesService,
    private readonly tray: TrayService,
    private readonly scanner: ScannerService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** @throws Problem deposit.empty, deposit.arriving, answer.* */
  async handIn(contributor: Contributor, answers: IntakeAnswers): Promise<HandedIn> {
    const { name: office } = await this.office.settings();
    const id = await this.events.change(async (tx) => {
      const { intake, deposit } = await this.doors.insideIn(tx, contributor);
      requireAnswers(intake.questions, answers);
      await requireArrived(tx, deposit.id);
      const files = await filesOf(tx, deposit.id);
      const [number, key] = [await freeNumber(tx), randomBytes(24).toString('base64url')];
      const known = deposit.personName ?? deposit.recipient ?? '';
      const who = answers.name.trim() || answers.mail.trim() || known || 'without a name';
      const handedIn: DepositRecord = { ...deposit, number, answers, who, handedInAt: this.clock.date() };
      const hash = hashOf(receiptOf(office, intake, handedIn, files));
      await knowVisitor(tx, deposit.contributorId, who);
      await tx.query(
        `UPDATE deposit SET number = $2, receipt_key_hash = $3, receipt_key_sealed = $4, receipt_hash = $5,
           handed_in_at = $6, touched_at = $6, state = 'waiting', answers = $7, who = $8, actor_id = $9 WHERE id = $1`,
        [
          ...[deposit.id, number, secretHash(key), seal(this.config.sealingKey, key), hash, handedIn.handedInAt],
          ...[JSON.stringify(answers), who, deposit.contributorId],
        ],
      );
      const kept = (await depositById(tx, deposit.id)) as DepositRecord;
      await this.scanner.handIn(tx, kept);
      await this.tell(tx, office, intake, kept);
      await this.events.tell(tx, { topic: 'intake', id: intake.id });
      await this.ledger.append(tx, {
        kind: 'deposit.handed-in',
        actor: { kind: 'visitor', id: deposit.contributorId, name: who },
        nodeId: intake.folderId,
        detail: {
          ...{ title: intake.title, intake: intake.id, number, files: deposit.files, sizeBytes: deposit.bytes },
          ...{ receipt: hash.toString('hex'), from: contributor.fromAddress },
        },
      });
      return deposit.id;
    });
    this.mail.hurry();
    this.scanner.hurry();
    await this.content.lookAt(id);
    await this.tray.acceptByRule(id);
    return this.doors.handedIn((await depositById(this.db.manager, id)) as DepositRecord);
  }

  /** What stands on the receipt of a link. @throws Problem receipt.not-found */
  async receipt(contributor: Contributor, key: string): Promise<ReceiptShown> {
    const intake = await this.doors.intakeOf(contributor);
    const deposit = await depositByReceipt(this.db.manager, intake.id, secretHash(key.slice(0, 200)));
    if (!deposit) throw notFound('This receipt');
    const { name: office } = await this.office.settings();
    const files = await filesOf(this.db.manager, deposit.id);
    const hash = deposit.receiptHash?.toString('hex') ?? '';
    const asked = await askedBack(this.db.manager, [deposit.id]);
    return { receipt: receiptOf(office, intake, deposit, files), deposit, hash, askedBack: asked };
  }

  /** As `sha256sum --check` reads it. */
  async checksums(contributor: Contributor, key: string): Promise<{ name: string; text: string }> {
    const { receipt } = await this.receipt(contributor, key);
    return { name: `${receipt.number}.sha256`, text: checksumList(receipt.files) };
  }

  private async tell(tx: EntityManager, office: string, intake: IntakeRecord, deposit: DepositRecord): Promise<void> {
    const what = `${deposit.files.toLocaleString('en-GB')} ${deposit.files === 1 ? 'file' : 'files'}, ${formatSize(deposit.bytes)}`;
    await this.notices.give(tx, 'handed-in', intake.createdBy, {
      // Whoever runs the server sees subjects, and nothing of what is in homes.
      subject: 'Something was handed in at an intake of yours',
      text: `${deposit.who} has handed in ${what} at ${intake.title} (${deposit.number}). It stands in Intakes.`,
    });
    if (!intake.receiptByMail || mailOf(deposit) === '') return;
    await this.mail.handIn(tx, {
      to: mailOf(deposit),
      subject: `Receipt ${deposit.number}: ${intake.title}`,
      text: [
        `${office} has ${what} from you, for ${intake.title}.`,
        '',
        `Receipt: ${deposit.number}`,
        `Names, sizes and checksums: ${this.intakes.receiptOf(intake, deposit)}`,
        '',
        'Whoever has this link sees the receipt. It shows no file.',
      ].join('\n'),
    });
  }
}

/** @throws Problem deposit.empty, deposit.arriving */
async function requireArrived(tx: EntityManager, depositId: string): Promise<void> {
  const [row] = await tx.query<{ files: number; arriving: number }[]>(
    `SELECT count(*)::int AS files, (count(*) FILTER (WHERE sha256 IS NULL))::int AS arriving
       FROM deposit_file WHERE deposit_id = $1`,
    [depositId],
  );
  const { files = 0, arriving = 0 } = row ?? {};
  if (arriving > 0)
    throw new Problem(
      'conflict',
      'deposit.arriving',
      arriving === 1
        ? 'One file has not arrived yet. Wait for it, or take it back.'
        : `${arriving} files have not arrived yet. Wait for them, or take them back.`,
    );
  if (files === 0) throw new Problem('invalid', 'deposit.empty', 'There is no file to hand in yet.');
}

/** A number that nobody has been told. */
async function freeNumber(tx: EntityManager): Promise<string> {
  for (;;) {
    const number = receiptNumber(randomBytes(RECEIPT_BYTES));
    const taken = await tx.query<unknown[]>('SELECT 1 FROM deposit WHERE number = $1', [number]);
    if (taken.length === 0) return number;
  }
}

const receiptOf = (
  office: string,
  { title }: IntakeRecord,
  { number, handedInAt, who }: DepositRecord,
  files: readonly { path: string; sizeBytes: number; sha256: Buffer }[],
): Receipt => ({
  ...{ number: number ?? '', title, office, at: handedInAt?.toISOString() ?? '', name: who },
  files: files.map(({ path, sizeBytes, sha256 }) => ({ path, sizeBytes, sha256: sha256.toString('hex') })),
});

const hashOf = (receipt: Receipt): Buffer => createHash('sha256').update(receiptText(receipt)).digest();
