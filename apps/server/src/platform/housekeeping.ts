import { Inject, Injectable, type OnApplicationBootstrap } from '@nestjs/common';
import { DataSource } from 'typeorm';
import { Attempts } from './attempts.js';
import { BlobKeeper } from './blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from './blobs/blob-store.js';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Jobs } from './jobs/jobs.service.js';
import { log } from './log/log.js';

const EVERY_HOUR = '7 * * * *';
const STRAYS_EVERY = 24;

/**
 * Clears away what nobody needs any more, at the start and every hour, in one of the server processes. Harmless when
 * several do it at once.
 */
@Injectable()
export class Housekeeping implements OnApplicationBootstrap {
  private round = 0;
  private readonly duties: { name: string; work: () => Promise<unknown> }[] = [];

  constructor(
    private readonly attempts: Attempts,
    private readonly clock: Clock,
    private readonly keeper: BlobKeeper,
    private readonly jobs: Jobs,
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    jobs.define(
      'upkeep',
      () => 'Tidy up',
      () => this.tidy(),
    );
    jobs.regularly('upkeep', EVERY_HOUR);
  }

  async onApplicationBootstrap(): Promise<void> {
    if (!this.config.serves) return;
    // What several processes that start together hand in is done once.
    await this.jobs.handIn(this.db.manager, 'upkeep', {}, { key: 'start' });
  }

  /** Something to be done at the start and every hour. */
  add(name: string, work: () => Promise<unknown>): void {
    this.duties.push({ name, work });
  }

  /** Does everything once, one after the other; what fails is told and tried again in an hour. */
  async tidy(): Promise<void> {
    await this.run('temporary files', async () => {
      const removed = await this.blobs.sweep(this.clock.now());
      if (removed > 0) log.info({ removed }, 'left-over temporary files were removed');
    });
    await this.run('tries', () => this.attempts.tidy());
    for (const { name, work } of this.duties) await this.run(name, work);
    await this.run('blobs that nothing refers to', () => this.keeper.collect());
    // Looking at every name on the disk is for once a day.
    if (this.round % STRAYS_EVERY === 0) await this.run('bytes without a row', () => this.keeper.sweepStrays());
    this.round += 1;
  }

  private async run(name: string, work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
    } catch (error) {
      log.warn({ err: error, duty: name }, 'tidying up did not work; it is tried again in an hour');
    }
  }
}
