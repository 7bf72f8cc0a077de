import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { bytesOf } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { scanBy } from './clamd.js';
import { TrayService } from './tray.service.js';

/**
 * Has what was handed in looked at by the scanner, where one is named. While it is away, deposits wait: nothing that it
 * has not looked at is accepted.
 */
@Injectable()
export class ScannerService implements OnModuleInit {
  constructor(
    private readonly db: DataSource,
    private readonly events: Events,
    private readonly jobs: Jobs,
    private readonly housekeeping: Housekeeping,
    private readonly tray: TrayService,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    jobs.define<{ depositId: string; number: string }>(
      'scan',
      ({ number }) => `Scan ${number}`,
      ({ depositId }) => this.scan(depositId),
    );
  }

  onModuleInit(): void {
    this.housekeeping.add('what was handed in and not scanned', () => this.again());
  }

  /** Within the transaction that hands a deposit in. */
  async handIn(tx: EntityManager, deposit: { id: string; number: string | null }): Promise<void> {
    if (this.config.scanner === null) return;
    await this.jobs.handIn(
      tx,
      'scan',
      { depositId: deposit.id, number: deposit.number ?? '' },
      { key: `scan ${deposit.id}` },
    );
  }

  hurry(): void {
    this.jobs.hurry('scan');
  }

  /** Those whose job was given up because the scanner was away for long. */
  private async again(): Promise<void> {
    if (this.config.scanner === null) return;
    const rows = await this.db.query<{ id: string; number: string }[]>(
      `SELECT d.id, d.number FROM deposit d WHERE d.state = 'waiting' AND EXISTS (
         SELECT 1 FROM deposit_file f WHERE f.deposit_id = d.id AND f.blob_sha256 IS NOT NULL AND f.scan IS NULL)
        LIMIT 1000`,
    );
    for (const row of rows) await this.handIn(this.db.manager, row);
  }

  /** @throws Error while the scanner is away: it is tried again */
  private async scan(depositId: string): Promise<void> {
    const files = await this.db.query<{ id: string; intakeId: string; sha256: Buffer }[]>(
      `SELECT f.id, d.intake_id AS "intakeId", f.blob_sha256 AS sha256 FROM deposit_file f
         JOIN deposit d ON d.id = f.deposit_id
        WHERE d.id = $1 AND f.blob_sha256 IS NOT NULL AND f.scan IS NULL ORDER BY f.id`,
      [depositId],
    );
    for (const { id, sha256 } of files) {
      const place = this.config.scanner;
      if (place === null) return;
      const outcome = await scanBy(place, () => this.bytesOf(sha256));
      await this.db.query('UPDATE deposit_file SET scan = $2, finding = $3 WHERE id = $1', [
        ...[id, outcome.scan, outcome.scan === 'found' ? outcome.finding : ''],
      ]);
    }
    const [first] = files;
    if (first) await this.events.change((tx) => this.events.tell(tx, { topic: 'intake', id: first.intakeId }));
    await this.tray.acceptByRule(depositId);
  }

  private async *bytesOf(sha256: Buffer): AsyncGenerator<Uint8Array> {
    const blob = await this.blobs.open(sha256);
    // Something was decided about it meanwhile.
    if (!blob) return;
    try {
      yield* bytesOf(blob);
    } finally {
      await blob.close();
    }
  }
}
