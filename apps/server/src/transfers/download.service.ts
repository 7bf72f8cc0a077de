import { Inject, Injectable } from '@nestjs/common';
import { ARCHIVE_PATH_MOST_BYTES, planZip, segmentsWithin, type ZipPlan } from '@quay/core';
import contentDisposition from 'content-disposition';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createHash } from 'node:crypto';
import { DataSource } from 'typeorm';
import { BLOBS, type BlobStore, type Stretch } from '../platform/blobs/blob-store.js';
import { decideRange } from '../platform/blobs/ranges.js';
import { isSmall, readSmall, sendStretches } from '../platform/blobs/send.js';
import { Problem } from '../platform/problems/problem.js';
import { contents, MOST_CONTENTS, type ContentFile, type FileBytes } from '../stores/stores.queries.js';

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
  constructor(
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  /** Sends a file or the range that was asked for. @throws Problem blob.missing, range.beyond-end */
  async file(req: IncomingMessage, res: ServerResponse, file: FileBytes, how: 'save' | 'show'): Promise<void> {
    const shown = how === 'show' && SHOWABLE.test(file.mediaType);
    const etag = `"${file.sha256.toString('base64url')}"`;
    if (req.headers['if-none-match'] === etag) {
      res.writeHead(304, { ETag: etag }).end();
      return;
    }
    const { start, end, status, headers } = decideRange(rangeHeaders(req), file.sizeBytes, etag);
    const head = { ...headers, ...fileHead(file, shown) };
    if (req.method === 'HEAD') res.writeHead(status, head).end();
    else if (isSmall(end - start)) {
      const bytes = await readSmall(this.blobs, file.sha256, file.sizeBytes, start, end - start);
      if (!bytes) throw blobMissing();
      res.writeHead(status, head).end(bytes);
    } else {
      if ((await this.blobs.stat(file.sha256))?.sizeBytes !== file.sizeBytes) throw blobMissing();
      res.writeHead(status, head);
      await sendStretches(res, this.blobs, [{ sha256: file.sha256, from: start, length: end - start }]);
    }
  }

  /** Lays out an archive of the nodes and all that is live below them. @throws Problem archive.too-many, archive.empty */
  async plan(nodeIds: string[]): Promise<Archive> {
    const found = await contents(this.db.manager, nodeIds);
    if (found.length > MOST_CONTENTS)
      throw new Problem(
        'too-large',
        'archive.too-many',
        `An archive holds at most ${MOST_CONTENTS.toLocaleString('en-GB')} files. Choose fewer.`,
      );
    const deep = found.find((f) => Buffer.byteLength(f.path) > ARCHIVE_PATH_MOST_BYTES);
    if (deep)
      throw new Problem(
        'invalid',
        'archive.path-too-long',
        `The folders inside go deeper than an archive can hold (paths of ${ARCHIVE_PATH_MOST_BYTES.toLocaleString('en-GB')} bytes). Choose folders further down.`,
      );
    return planOf(found);
  }

  /** Sends an archive, or a range of it, with its exact size announced. */
  async archive(req: IncomingMessage, res: ServerResponse, name: string, archive: Archive): Promise<void> {
    const { start, end, status, headers } = decideRange(rangeHeaders(req), archive.plan.sizeBytes, archive.etag);
    res.writeHead(status, { ...headers, ...headOf(contentDisposition(name), 'application/zip', archive.modifiedAt) });
    if (req.method === 'HEAD') res.end();
    else await sendStretches(res, this.blobs, stretches(archive, start, end));
  }
}

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

/** The archive of these entries; entries of the same path get "(2)" so that none is lost. */
export function planOf(found: ContentFile[]): Archive {
  const hash = createHash('sha256');
  let newest = 0;
  const used = new Set<string>();
  const names = Buffer.alloc(found.length * SHA256_BYTES);
  const entries = found.map((f, i) => {
    const path = distinct(f.path, used);
    hash.update(`${path}\0${f.sha256}\0${f.modifiedAt}\n`);
    newest = Math.max(newest, f.modifiedAt);
    names.write(f.sha256, i * SHA256_BYTES, 'hex');
    return {
      path,
      sizeBytes: f.sizeBytes,
      crc32: f.crc32,
      modifiedAt: f.modifiedAt,
      source: f.kind === 'folder' ? null : i,
    };
  });
  return { plan: planZip(entries), names, etag: `"${hash.digest('base64url')}"`, modifiedAt: new Date(newest) };
}

// Items from different folders may bear the same name.
function distinct(path: string, used: Set<string>): string {
  let candidate = path;
  for (let n = 2; used.has(candidate.toLowerCase()); n += 1) {
    const [first, ...rest] = path.split('/');
    const dot = rest.length === 0 ? (first as string).lastIndexOf('.') : -1;
    const numbered =
      dot > 0 ? `${(first as string).slice(0, dot)} (${n})${(first as string).slice(dot)}` : `${first} (${n})`;
    candidate = [numbered, ...rest].join('/');
  }
  used.add(candidate.toLowerCase());
  return candidate;
}

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

// Types that a browser would act on are sent as plain bytes.
function safeType(type: string): string {
  return /html|svg|xml|javascript|pdf/.test(type) ? 'application/octet-stream' : type;
}

function blobMissing(): Problem {
  return new Problem(
    'unexpected',
    'blob.missing',
    'The bytes of this file are missing or damaged on the server. Tell whoever runs it.',
  );
}
