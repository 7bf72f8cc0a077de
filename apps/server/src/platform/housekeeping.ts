import { Inject, Injectable, type OnApplicationShutdown, type OnModuleInit } from '@nestjs/common';
import { Attempts } from './attempts.js';
import { BLOBS, type BlobStore } from './blobs/blob-store.js';
import { Clock } from './clock.js';
import { log } from './log/log.js';

const EVERY_MS = 3600 * 1000;

/** Clears away what nobody needs any more, at the start and every hour. Harmless when several processes do it at once. */
@Injectable()
export class Housekeeping implements OnModuleInit, OnApplicationShutdown {
  private timer: NodeJS.Timeout | null = null;

  constructor(private readonly attempts: Attempts, private readonly clock: Clock, @Inject(BLOBS) private readonly blobs: BlobStore) {}

  onModuleInit(): void {
    this.timer = setInterval(() => void this.tidy(), EVERY_MS);
    this.timer.unref();
    void this.tidy();
  }

  onApplicationShutdown(): void {
    if (this.timer) clearInterval(this.timer);
  }

  /** Temporary files of uploads that a crash cut off, and counts of tries that no longer matter. */
  async tidy(): Promise<void> {
    try {
      const removed = await this.blobs.sweep(this.clock.now());
      if (removed > 0) log.info({ removed }, 'left-over temporary files were removed');
      await this.attempts.tidy();
    } catch (error) {
      log.warn({ err: error }, 'tidying up did not work; it is tried again in an hour');
    }
  }
}
