import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Housekeeping } from '../platform/housekeeping.js';

/**
 * The parts of uploads that come in pieces. Those whose upload is gone go with it: of a crash between the two, or of a
 * folder that was removed for good.
 */
@Injectable()
export class PartsService implements OnModuleInit {
  private readonly known: (() => Promise<string[]>)[] = [];

  constructor(
    private readonly housekeeping: Housekeeping,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  onModuleInit(): void {
    this.housekeeping.add('parts of uploads that are gone', () => this.tidy());
  }

  /** @param ids of uploads that have not ended */
  keep(ids: () => Promise<string[]>): void {
    this.known.push(ids);
  }

  private async tidy(): Promise<void> {
    // The parts are looked at first: one that begins now has its row already.
    const parts = await this.blobs.parts.ids();
    const known = new Set((await Promise.all(this.known.map((ids) => ids()))).flat());
    for (const id of parts) if (!known.has(id)) await this.blobs.parts.remove(id);
  }
}
