import { Inject, Injectable } from '@nestjs/common';
import { ARCHIVE_PATH_MOST_BYTES, planZip, segmentsWithin, type ZipPlan } from '@quay/core';
import contentDisposition from 'content-disposition';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createHash } from 'node:crypto';
import { DataSource } from 'typeorm';
import { BLOBS, type BlobStore, type Stretch } from '../platform/blobs/blob-store.js';
import { decideRange } from '../platform/blobs/ranges.js';
import { hasRoomForReader } from '../platform/blobs/reader-memory.js';
import { CONFIG, type Config } from '../platform/config.js';
import { isSmall, readSmall, sendStretches } from '../platform/blobs/send.js';
import { Problem } from '../platform/problems/problem.js';
import { RunningWork, type Running } from '../platform/running.js';
import { Turns } from '../platform/turns.js';
import { contents, MOST_CONTENTS, type ContentFile, type FileBytes } from '../stores/branch.queries.js';

/** Media types a browser may show by itself; everything else is saved. None of them can run anything in our origin. */
const SHOWABLE = /^(image\/(png|jpeg|gif|webp|avif)|video\/(mp4|webm)|audio\/(mpeg|ogg|wav|mp4)|text\/plain)$/;

/** Whatever a file contains, it gets an origin of its own, in which nothing runs. */
const FILE_HEADERS = {
  'Cache-Control': 'private, no-cache',
  'Content-Security-Policy': "sandbox; default-src 'none'; img-src 'self'; media-src 'self'; style-src 'unsafe-inline'",
  'X-Content-Type-Options': 'nosniff',
  'X-Frame-Options': 'DENY',
  'Referrer-Policy': 'no-referrer',
};

@Injectable()
export class DownloadService {
  private readonly turns = new Turns(2, 5);

  constructor(
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
    private readonly running: RunningWork,
  ) {}

  /**
   * Sends a file or the range that was asked for.
   * @param going whether it may go on while it is being sent
   * @param taken done before the first byte of an answer that carries any: not for a HEAD, nor when nothing has changed
   * @throws Problem blob.missing, range.beyond-end
   */
  async file(
    req: IncomingMessage,
    res: ServerResponse,
    file: FileBytes,
    how: 'save' | 'show',
    going: Going,
    taken?: () => Promise<void>,
  ): Promise<void> {
    const shown = how === 'show' && SHOWABLE.test(file.mediaType);
    const etag = `"${file.sha256.toString('base64url')}"`;
    if (req.headers['if-none-match'] === etag) {
      res.writeHead(304, { ETag: etag }).end();
      return;
    }
    const { start, end, status, headers } = decideRange(rangeHeaders(req), file.sizeBytes, etag);
    const head = { ...headers, ...fileHead(file, shown) };
    if (req.method === 'HEAD') {
      res.writeHead(status, head).end();
      return;
    }
    if (isSmall(end - start)) {
      const bytes = await readSmall(this.blobs, file.sha256, file.sizeBytes, start, end - start);
      if (!bytes) throw blobMissing();
      await taken?.();
      res.writeHead(status, head).end(bytes);
      return;
    }
    // Held until it has been sent, so that what sends it finds it open.
    const blob = await this.blobs.open(file.sha256, 'shared');
    if (!blob) throw blobMissing();
    try {
      if (blob.sizeBytes !== file.sizeBytes) throw blobMissing();
      requireRoomForReader();
      await taken?.();
      res.writeHead(status, head);
      await this.send(res, [{ sha256: file.sha256, from: start, length: end - start }], going);
    } finally {
      await blob.close();
    }
  }

  /**
   * Lays out an archive of the nodes and all that is live below them and may be read. @throws Problem archive.too-many,
   * archive.path-too-long
   */
  plan(personId: string, nodeIds: string[]): Promise<Archive> {
    const found = () => contents(this.db.manager, nodeIds, { personId, act: 'read' });
    return this.turns.run(personId, async () => archiveOf(await found()));
  }

  /** Sends an archive, or a range of it, with its exact size announced. */
  async archive(
    req: IncomingMessage,
    res: ServerResponse,
    name: string,
    archive: Archive,
    going: Going,
    taken?: () => Promise<void>,
  ): Promise<void> {
    const { start, end, status, headers } = decideRange(rangeHeaders(req), archive.plan.sizeBytes, archive.etag);
    const head = { ...headers, ...headOf(contentDisposition(name), 'application/zip', archive.modifiedAt) };
    if (req.method === 'HEAD') {
      res.writeHead(status, head).end();
      return;
    }
    requireRoomForReader();
    await taken?.();
    res.writeHead(status, head);
    await this.send(res, stretches(archive, start, end), going);
  }

  private send(res: ServerResponse, parts: Iterable<Stretch>, going: Going): Promise<void> {
    const sent = () => sendStretches(res, this.blobs, parts, this.config.pace);
    return this.running.while(going, going.until, () => res.destroy(), sent);
  }
}

/** Whether a download may go on, and until when that holds by itself. */
export type Going = Running & { until: Date | null };

/** An archive laid out: entry i has the bytes that `names` names at 32 x i. */
export interface Archive {
  plan: ZipPlan<number>;
  names: Buffer;
  etag: string;
  modifiedAt: Date;
}

const fileHeads = new WeakMap<FileBytes, [saved: Record<string, string>, shown: Record<string, string>]>();

/** The head of a file's answer; made once for each time the file's facts are read. */
function fileHead(file: FileBytes, shown: boolean): Record<string, string> {
  let heads = fileHeads.get(file);
  if (!heads) {
    heads = [
      headOf(contentDisposition(file.name), safeType(file.mediaType), file.modifiedAt),
      headOf(contentDisposition(file.name, { type: 'inline' }), file.mediaType, file.modifiedAt),
    ];
    fileHeads.set(file, heads);
  }
  return heads[shown ? 1 : 0];
}

function headOf(disposition: string, type: string, modifiedAt: Date): Record<string, string> {
  return {
    ...FILE_HEADERS,
    'Content-Disposition': disposition,
    'Content-Type': type,
    'Last-Modified': modifiedAt.toUTCString(),
  };
}

const SHA256_BYTES = 32;

/** Why these cannot be one archive; null when they can. What stands in the way is named. */
export function archiveFault(found: readonly ContentFile[]): Problem | null {
  if (found.length > MOST_CONTENTS)
    return new Problem(
      'too-large',
      'archive.too-many',
      `An archive holds at most ${MOST_CONTENTS.toLocaleString('en-GB')} files and folders. Choose fewer.`,
    );
  const deep = found.find((f) => Buffer.byteLength(f.path) > ARCHIVE_PATH_MOST_BYTES);
  if (!deep) return null;
  const start = [...deep.path].slice(0, 80).join('');
  return new Problem(
    'invalid',
    'archive.path-too-long',
    `The folders inside "${start} ..." go deeper than an archive can hold (paths of ${ARCHIVE_PATH_MOST_BYTES.toLocaleString('en-GB')} bytes). Choose folders further down, or single files.`,
    { path: start },
  );
}

/**
 * The archive of these entries, whose paths are all different (`contents`). @throws Problem archive.too-many,
 * archive.path-too-long
 */
export function archiveOf(found: ContentFile[]): Archive {
  const fault = archiveFault(found);
  if (fault) throw fault;
  const hash = createHash('sha256');
  let newest = 0;
  const names = Buffer.alloc(found.length * SHA256_BYTES);
  for (const [i, f] of found.entries()) {
    hash.update(`${f.path}\0${f.sha256}\0${f.modifiedAt}\n`);
    newest = Math.max(newest, f.modifiedAt);
    names.write(f.sha256, i * SHA256_BYTES, 'hex');
  }
  return { plan: planOf(found), names, etag: `"${hash.digest('base64url')}"`, modifiedAt: new Date(newest) };
}

/** How long that archive is, in bytes. Asked where {@link archiveFault} finds nothing. */
export const archiveSize = (found: ContentFile[]): number => planOf(found).sizeBytes;

const planOf = (found: ContentFile[]): ZipPlan<number> =>
  planZip(
    found.map(({ path, sizeBytes, crc32, modifiedAt, kind }, i) => ({
      ...{ path, sizeBytes, crc32, modifiedAt },
      source: kind === 'folder' ? null : i,
    })),
  );

function* stretches({ plan, names }: Archive, start: number, end: number): Generator<Stretch> {
  let gathered: Uint8Array[] = [];
  for (const segment of segmentsWithin(plan, start, end)) {
    const from = Math.max(0, start - segment.offset);
    const to = Math.min(segment.length, end - segment.offset);
    if ('bytes' in segment) gathered.push(segment.bytes.subarray(from, to));
    else {
      if (gathered.length) yield { bytes: Buffer.concat(gathered) };
      gathered = [];
      yield {
        sha256: names.subarray(segment.source * SHA256_BYTES, (segment.source + 1) * SHA256_BYTES),
        from,
        length: to - from,
      };
    }
  }
  if (gathered.length) yield { bytes: Buffer.concat(gathered) };
}

function rangeHeaders(req: IncomingMessage): { range?: string; ifRange?: string } {
  const ifRange = req.headers['if-range'];
  return { range: req.headers.range, ifRange: typeof ifRange === 'string' ? ifRange : undefined };
}

/** Types that no browser acts on; everything else goes out as plain bytes, whatever its name says it is. */
const HARMLESS =
  /^(image\/(png|jpeg|gif|webp|avif|tiff)|(audio|video)\/[\w.-]+|text\/(plain|csv)|application\/(zip|gzip|x-tar|x-7z-compressed|msword|vnd\.(?!.*script)[\w.-]+))$/;

function safeType(type: string): string {
  return HARMLESS.test(type) ? type : 'application/octet-stream';
}

/** @throws Problem readers.too-many: before the head of an answer is sent, so that it can be asked for again */
function requireRoomForReader(): void {
  if (hasRoomForReader()) return;
  throw new Problem(
    'unavailable',
    'readers.too-many',
    'Very many people are downloading just now. Try again in a moment.',
    {
      retryAfterSeconds: 5,
    },
  );
}

function blobMissing(): Problem {
  return new Problem(
    'unexpected',
    'blob.missing',
    'The bytes of this file are missing or damaged on the server. Tell whoever runs it.',
  );
}
