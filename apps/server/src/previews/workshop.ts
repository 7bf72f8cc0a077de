import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import type { Duplex } from 'node:stream';
import { bytesOf } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { CONFIG, type Config } from '../platform/config.js';
import { drained } from '../platform/drained.js';
import { frameHead, readFrames } from './frames.js';
import {
  MOST_PICTURED_BYTES,
  MOST_PICTURES_BYTES,
  type PreviewDone,
  type PreviewJob,
  type PreviewWork,
} from './job.js';
import { canShutIn, shutIn, type ShutIn } from './sandbox.js';

const JOB_SECONDS = 60;
const IDLE_MS = 60_000;
const BUILT = join(import.meta.dirname, 'worker.js');
/** Tests run from the sources, where only the built one can be started. */
const WORKER = existsSync(BUILT) ? BUILT : join(import.meta.dirname, '../../dist/previews/worker.js');

/** What was made of some bytes, by name; or why nothing was. */
export type Made =
  | { pages: number | null; width: number | null; height: number | null; pictures: Map<string, Buffer> }
  /** `lasts`: it is the file's fault, or may be. */
  | { failed: string; lasts: boolean };

/**
 * The line to the program that opens files of strangers, which is shut in and ends when it has nothing to do. A file
 * that breaks it breaks what else it is at as well; the next job starts it anew.
 */
@Injectable()
export class Workshop implements OnApplicationShutdown {
  private readonly running = new Map<number, { settle: (made: Made) => void; timer: NodeJS.Timeout }>();
  private worker: ShutIn | null = null;
  /** What is being sent, so that two jobs never mix on the line. */
  private sending: Promise<void> = Promise.resolve();
  private idle: NodeJS.Timeout | null = null;
  private nextId = 1;
  private stopped = false;

  constructor(
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  onApplicationShutdown(): void {
    this.stopped = true;
    this.end('the server is stopping', false);
  }

  /** Has something made of bytes that the store of blobs holds under a name, or that are at hand. */
  async make(work: PreviewWork, from: Buffer | { sha256: Buffer }): Promise<Made> {
    const isAble = !this.stopped && (await canShutIn(WORKER, this.config.previewsSocket));
    if (!isAble) return { failed: 'nothing can be made on this machine', lasts: false };
    if (Buffer.isBuffer(from)) return this.run(work, from.length, (line) => pourPieces(line, [from]));
    const blob = await this.blobs.open(from.sha256);
    if (!blob) return { failed: 'no bytes', lasts: true };
    try {
      if (blob.sizeBytes > MOST_PICTURED_BYTES) return { failed: 'too large for a picture', lasts: true };
      return await this.run(work, blob.sizeBytes, (line) => pourPieces(line, bytesOf(blob)));
    } finally {
      await blob.close();
    }
  }

  private async run(work: PreviewWork, sizeBytes: number, pourInto: (line: Duplex) => Promise<void>): Promise<Made> {
    const id = this.nextId;
    this.nextId += 1;
    const made = new Promise<Made>((settle) => {
      const timer = setTimeout(() => this.end('it took too long', true), JOB_SECONDS * 1000).unref();
      this.running.set(id, { settle, timer });
    });
    const job: PreviewJob = { id, ...work };
    const send = async () => {
      const line = this.line();
      line.write(frameHead(job, sizeBytes));
      await pourInto(line);
    };
    this.sending = this.sending.then(send).catch(() => this.end('the program cannot be reached', false));
    await this.sending;
    return made;
  }

  /** The line to the program; it is started when there is none. */
  private line(): Duplex {
    if (this.idle) clearTimeout(this.idle);
    if (this.worker) return this.worker.line;
    const worker = shutIn(WORKER, this.config.previewsSocket, () => {
      if (this.worker === worker) this.end('the program ended', true);
    });
    readFrames<PreviewDone>(worker.line, MOST_PICTURES_BYTES, ({ head, body }) =>
      this.settle(head.id, madeOf(head, body)),
    );
    this.worker = worker;
    return worker.line;
  }

  /** Whatever it was at does not get done; it may be the end of it, so it is not tried again by itself. */
  private end(failed: string, lasts: boolean): void {
    const { worker } = this;
    this.worker = null;
    worker?.kill();
    for (const id of [...this.running.keys()]) this.settle(id, { failed, lasts });
  }

  private settle(id: number, made: Made): void {
    const job = this.running.get(id);
    if (!job) return;
    clearTimeout(job.timer);
    this.running.delete(id);
    job.settle(made);
    if (this.running.size > 0 || !this.worker) return;
    if (this.idle) clearTimeout(this.idle);
    this.idle = setTimeout(() => this.end('it had nothing to do', false), IDLE_MS).unref();
  }
}

async function pourPieces(line: Duplex, pieces: Iterable<Buffer> | AsyncIterable<Buffer>): Promise<void> {
  for await (const piece of pieces) {
    if (line.destroyed) return;
    if (!line.write(piece)) await drained(line);
  }
}

function madeOf(done: PreviewDone, body: Buffer): Made {
  if ('failed' in done) return { failed: done.failed, lasts: true };
  const pictures = new Map<string, Buffer>();
  let at = 0;
  for (const [name, sizeBytes] of Object.entries(done.pictures)) {
    pictures.set(name, body.subarray(at, at + sizeBytes));
    at += sizeBytes;
  }
  return { pages: done.pages, width: done.width, height: done.height, pictures };
}
