import { Inject, Injectable } from '@nestjs/common';
import { attachAdvice, countOf, distinctNames } from '@quay/core';
import { DataSource } from 'typeorm';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import type { Enclosure } from '../platform/mail.js';
import { Problem } from '../platform/problems/problem.js';
import { contentsOfShare } from '../shares/frozen.queries.js';
import type { ShareRecord } from '../shares/shares.queries.js';

/** What is known of the office's mail: its server says how much it takes only when it is asked with the message. */
export const COMMON_LIMITS = { limitBytes: null, uploadMbit: null } as const;
/** More than these do not go with a mail, however small they are. */
const MOST_ATTACHED = 50;

/** What of a share's terms an attachment would go without, in words; null: nothing. */
export function attachBarredBy({ passwordHash, audience, may, visitLimit }: ShareRecord): string | null {
  if (passwordHash !== null) return 'its password';
  if (audience !== 'anyone') return 'asking who it is that opens it';
  if (may.level === 'view') return 'its rule that files are only looked at';
  if (may.watermark !== 'none') return 'its watermark';
  if (visitLimit !== null || may.fileLimit !== null) return 'its limit';
  return null;
}

/** @throws Problem attach.guarded */
export function requireUnguarded(share: ShareRecord): void {
  const barred = attachBarredBy(share);
  if (barred !== null) throw refused('attach.guarded', `An attachment would go without ${barred}. Send the link.`);
}

/** The files of a share, to go with a mail. */
@Injectable()
export class Attaching {
  constructor(
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  /** @throws Problem attach.guarded, attach.folder, attach.too-large, attach.gone */
  async filesOf(share: ShareRecord, recipients: number): Promise<Enclosure[]> {
    requireUnguarded(share);
    const contents = await contentsOfShare(this.db.manager, share);
    if (contents.some((row) => row.kind === 'folder'))
      throw refused('attach.folder', 'A folder cannot be attached. Send the link.');
    const advice = attachAdvice({ sizes: contents.map((c) => c.sizeBytes), recipients, ...COMMON_LIMITS });
    if (!advice.can) throw refused('attach.too-large', advice.words);
    if (contents.length > MOST_ATTACHED)
      throw refused(
        'attach.too-many',
        `${countOf(contents.length, 'file')} are more than a mail is good for. Send the link.`,
      );
    const names = distinctNames(contents.map((c) => c.path));
    const files: Enclosure[] = [];
    for (const [i, { sha256, sizeBytes }] of contents.entries())
      files.push({ name: names[i] as string, content: await this.bytesOf(Buffer.from(sha256, 'hex'), sizeBytes) });
    return files;
  }

  private async bytesOf(sha256: Buffer, sizeBytes: number): Promise<Buffer> {
    const blob = await this.blobs.open(sha256);
    if (!blob) throw refused('attach.gone', 'A file was removed meanwhile. Look at the share.');
    try {
      const content = Buffer.alloc(sizeBytes);
      let read = 0;
      while (read < sizeBytes) {
        const count = await blob.read(content.subarray(read), read, sizeBytes - read);
        if (count === 0) throw refused('attach.gone', 'A file cannot be read to its end. Look at the share.');
        read += count;
      }
      return content;
    } finally {
      await blob.close();
    }
  }
}

const refused = (code: string, words: string) => new Problem('conflict', code, words);
