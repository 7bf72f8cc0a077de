import { Inject, Injectable, type OnApplicationShutdown, type OnModuleInit } from '@nestjs/common';
import { archiveFault, contentVerdict, isNoArchive, type Within } from '@quay/core';
import { fileTypeFromBuffer } from 'file-type';
import { DataSource } from 'typeorm';
import { aside } from '../platform/aside.js';
import { BLOBS, type BlobStore, type OpenBlob } from '../platform/blobs/blob-store.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { log } from '../platform/log/log.js';
import { endsAsZip, packedIn } from './packed.js';

/** So many bytes tell what a file is (as the library asks for). */
const FIRST_BYTES = 4100;
/** Files that are looked at in one go. */
const AT_ONCE = 200;
const SOON_MS = 300;

/** Looks at the first bytes of what was handed in: whether it is what its name says. */
@Injectable()
export class ContentService implements OnModuleInit, OnApplicationShutdown {
  /** Deposits that are looked at in a moment. */
  private readonly soon = new Map<string, NodeJS.Timeout>();

  constructor(
    private readonly db: DataSource,
    private readonly events: Events,
    private readonly housekeeping: Housekeeping,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  onModuleInit(): void {
    this.housekeeping.add('what was handed in and not looked at', () => this.lookAt(null));
  }

  /** Looks at what has arrived, a moment later and at all that came meanwhile: many files come one after the other. */
  lookSoon(depositId: string): void {
    if (this.soon.has(depositId)) return;
    const timer = setTimeout(() => {
      this.soon.delete(depositId);
      aside(this.lookAt(depositId), 'what was handed in could not be looked at yet');
    }, SOON_MS);
    this.soon.set(depositId, timer.unref());
  }

  onApplicationShutdown(): void {
    for (const timer of this.soon.values()) clearTimeout(timer);
    this.soon.clear();
  }

  /** Looks at what has not been looked at yet. @param depositId null: of all */
  async lookAt(depositId: string | null): Promise<void> {
    const changed = new Set<string>();
    for (;;) {
      const rows = await this.db.query<{ id: string; intakeId: string; told: boolean; path: string; sha256: Buffer }[]>(
        `SELECT f.id, d.intake_id AS "intakeId", d.handed_in_at IS NOT NULL AS told, f.path, f.blob_sha256 AS sha256
           FROM deposit_file f JOIN deposit d ON d.id = f.deposit_id
          WHERE f.verdict IS NULL AND f.blob_sha256 IS NOT NULL AND ($1::uuid IS NULL OR f.deposit_id = $1)
          ORDER BY f.id LIMIT $2`,
        [depositId, AT_ONCE],
      );
      for (const { id, path, sha256, intakeId, told } of rows) {
        const { media, within } = await this.lookInto(sha256);
        const { verdict, words } = contentVerdict(path.split('/').at(-1) as string, media, within);
        await this.db.query('UPDATE deposit_file SET media = $2, verdict = $3, verdict_words = $4 WHERE id = $1', [
          ...[id, media, verdict, words],
        ]);
        // What was not handed in yet nobody sees.
        if (told) changed.add(intakeId);
      }
      if (rows.length < AT_ONCE) break;
    }
    if (changed.size > 0)
      await this.events.change((tx) =>
        this.events.tell(tx, ...[...changed].map((id) => ({ topic: 'intake' as const, id }))),
      );
  }

  /** What the first bytes say, null: nothing that is known; and what was found further inside. */
  private async lookInto(sha256: Buffer): Promise<{ media: string | null; within?: Within }> {
    const blob = await this.blobs.open(sha256);
    if (!blob) return { media: null };
    try {
      const media = await mediaOf(blob);
      return { media, within: await withinOf(blob, media) };
    } finally {
      await blob.close();
    }
  }
}

async function mediaOf(blob: OpenBlob): Promise<string | null> {
  const first = new Uint8Array(Math.min(FIRST_BYTES, blob.sizeBytes));
  await blob.read(first, 0, first.length);
  // What a stranger sent may be made to break whoever reads it: then it is not told.
  return fileTypeFromBuffer(first).then(
    (found) => found?.mime ?? null,
    (error: unknown) => {
      log.warn({ err: error }, 'the beginning of a file that was handed in could not be read');
      return null;
    },
  );
}

async function withinOf(blob: OpenBlob, media: string | null): Promise<Within> {
  if (isNoArchive(media)) return { fault: null, untold: null, isAlsoArchive: await endsAsZip(blob) };
  try {
    const packed = await packedIn(blob, media);
    const untold = packed?.locked ? 'is locked with a password: nobody can look into it' : null;
    return { fault: packed && archiveFault(packed), untold, isAlsoArchive: false };
  } catch (error) {
    log.info({ err: error }, 'an archive that was handed in could not be read to its end');
    return { fault: null, untold: 'cannot be unpacked: it is damaged, or made to be', isAlsoArchive: false };
  }
}
