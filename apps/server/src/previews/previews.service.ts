import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import {
  countOf,
  decodeText,
  hasThumbnail,
  PREVIEWED_TYPES,
  previewKind,
  textPages,
  type PreviewKind,
} from '@quay/core';
import type { FileText } from '@quay/contract';
import { existsSync } from 'node:fs';
import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { DataSource, type EntityManager } from 'typeorm';
import { aside } from '../platform/aside.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { log } from '../platform/log/log.js';
import { Problem } from '../platform/problems/problem.js';
import { Workshop, type Made } from './workshop.js';

/** Jobs that may wait; what is beyond is made when somebody asks for it. */
const WAITING_MOST = 5000;
/** Jobs that the worker has at once (two cores: measured, no more with three). */
const AT_ONCE = 2;
/** What one job of the queue has waiting for the worker, and for how long it begins with more. */
const LANES = 8;
const TURN_MS = 30_000;
/** As much of a text as is shown. */
const SHOWN_BYTES = 512_000;
/** Texts up to this size are searched inside. */
const SEARCHED_BYTES = 1_000_000;

/** Whether a picture can be made of a file, or its words be searched. */
function canBeMade(name: string, sizeBytes: number): boolean {
  const kind = previewKind(name);
  return kind === 'text' || kind === 'table' ? sizeBytes <= SEARCHED_BYTES : hasThumbnail(kind);
}

interface Waiting {
  nodeId: string;
  sha256: Buffer;
  kind: PreviewKind;
  page: number;
  done: ((ok: boolean) => void)[];
}

/**
 * Makes pictures of files off the path of any request, in a program of its own, and keeps them beside the blobs. They
 * are named by the bytes they were made of, so that they never grow stale, and can be thrown away at any time.
 */
@Injectable()
export class PreviewsService implements OnApplicationShutdown {
  private readonly root: string;
  private readonly waiting = new Map<string, Waiting>();
  private readonly running = new Map<string, Waiting>();
  private nextId = 1;
  private stopped = false;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly jobs: Jobs,
    private readonly workshop: Workshop,
    housekeeping: Housekeeping,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) config: Config,
  ) {
    this.root = join(config.blobRoot, 'previews');
    jobs.define<{ nodeIds: string[] }>(
      'previews',
      ({ nodeIds }) => `Make previews of ${countOf(nodeIds.length, 'file')}`,
      ({ nodeIds }) => this.make(nodeIds),
    );
    housekeeping.add('previews of bytes that are gone', () => this.forgetGone());
    housekeeping.add('previews that are missing', () => this.wantMissing());
  }

  onApplicationShutdown(): void {
    this.stopped = true;
  }

  /**
   * Asks for what can be made of files, within the transaction that records them: it is made when that has committed.
   */
  async want(tx: EntityManager, files: readonly { id: string; name: string; sizeBytes: number }[]): Promise<void> {
    const nodeIds = files.filter((f) => canBeMade(f.name, f.sizeBytes)).map((f) => f.id);
    if (nodeIds.length > 0) await this.jobs.handIn(tx, 'previews', { nodeIds });
  }

  /** Begins with what was asked for a moment ago, without waiting for the queue to be looked at. */
  hurry(): void {
    this.jobs.hurry('previews');
  }

  /** Makes what is missing of these files' present versions. */
  private async make(nodeIds: string[]): Promise<void> {
    const rows = await this.db.query<{ id: string; name: string; sha256: Buffer; size: string }[]>(
      `SELECT n.id, n.name, v.sha256, v.size_bytes AS size FROM node n JOIN file_version v ON v.id = n.version_id
        WHERE n.id = ANY($1)`,
      [nodeIds],
    );
    const wanted = rows.filter((r) => canBeMade(r.name, Number(r.size)));
    const until = performance.now() + TURN_MS;
    const lane = async () => {
      while (performance.now() < until && !this.stopped) {
        const next = wanted.shift();
        if (!next) return;
        await this.makeOne(next);
      }
    };
    await Promise.all(Array.from({ length: LANES }, lane));
    // Another job goes on with the rest, so that what a process had that died is soon somebody else's.
    const rest = wanted.map((w) => w.id);
    if (rest.length > 0) await this.jobs.handIn(this.db.manager, 'previews', { nodeIds: rest });
  }

  private makeOne({ id, name, sha256 }: { id: string; name: string; sha256: Buffer }): Promise<void> {
    return new Promise((resolve) => {
      const job = { nodeId: id, sha256, kind: previewKind(name), page: 1, done: [() => resolve()] };
      if (!this.enqueue(job)) resolve();
    });
  }

  /**
   * The picture of a file; null when it is still being made, which an event will tell of.
   * @throws Problem preview.none
   */
  async picture(
    nodeId: string,
    sha256: Buffer,
    name: string,
    what: 'thumb' | 'large' | number,
  ): Promise<Buffer | null> {
    const kind = previewKind(name);
    if (!hasThumbnail(kind)) throw none();
    const page = typeof what === 'number' ? what : 1;
    const file = typeof what === 'number' ? `page-${what}` : kind === 'pages' && what === 'large' ? 'page-1' : what;
    const bytes = await readFile(join(this.folder(sha256), `${file}.webp`)).catch(() => null);
    if (bytes) return bytes;
    const [row] = await this.db.query<{ state: string; pages: number | null }[]>(
      'SELECT state, pages FROM preview WHERE sha256 = $1',
      [sha256],
    );
    if (row?.state === 'none' || (typeof row?.pages === 'number' && page > row.pages)) throw none();
    this.enqueue({ nodeId, sha256, kind, page, done: [] }, true);
    return null;
  }

  /** The text of a file, as far as it is shown. @throws Problem blob.missing, preview.none */
  async text(sha256: Buffer): Promise<FileText> {
    const blob = await this.blobs.open(sha256);
    if (!blob)
      throw new Problem(
        'unexpected',
        'blob.missing',
        'The bytes of this file are missing or damaged on the server. Tell whoever runs it.',
      );
    try {
      const bytes = Buffer.alloc(Math.min(SHOWN_BYTES, blob.sizeBytes));
      await blob.read(bytes, 0, bytes.length);
      const decoded = decodeText(bytes);
      if (!decoded) throw new Problem('not-found', 'preview.none', 'This file does not hold text.');
      return { ...decoded, truncated: blob.sizeBytes > SHOWN_BYTES, sizeBytes: blob.sizeBytes };
    } finally {
      await blob.close();
    }
  }

  /** How many pages a text has where it is drawn, as far as it is shown. @throws Problem blob.missing, preview.none */
  async textPages(sha256: Buffer): Promise<number> {
    return textPages((await this.text(sha256)).text).length;
  }

  /** One of them, from 1, as a picture. @throws Problem blob.missing, preview.none */
  async textPage(sha256: Buffer, page: number): Promise<Buffer> {
    const lines = textPages((await this.text(sha256)).text)[page - 1];
    if (!lines) throw none();
    const made = await this.workshop.make({ kind: 'text', lines }, Buffer.alloc(0));
    const picture = 'failed' in made ? null : made.pictures.get('copy');
    if (!picture) throw none();
    return picture;
  }

  /** Pages of a document, as far as it has been opened; null before. */
  async pages(sha256: Buffer): Promise<number | null> {
    const [row] = await this.db.query<{ pages: number | null }[]>('SELECT pages FROM preview WHERE sha256 = $1', [
      sha256,
    ]);
    return row?.pages ?? null;
  }

  /** Resolves when everything that waits has been made. */
  async settled(): Promise<void> {
    while (await this.jobs.waiting('previews')) {
      this.hurry();
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
    await Promise.all(
      [...this.waiting.values(), ...this.running.values()].map(
        (job) => new Promise<boolean>((resolve) => job.done.push(resolve)),
      ),
    );
  }

  /** @returns false when it is being made already, or there is too much to do */
  private enqueue(job: Waiting, urgent = false): boolean {
    const key = `${job.sha256.toString('hex')} ${job.page}`;
    const present = this.waiting.get(key) ?? this.running.get(key);
    if (this.stopped || (present && !urgent) || (!urgent && this.waiting.size >= WAITING_MOST)) return false;
    if (present && !this.waiting.has(key)) return false;
    this.waiting.delete(key);
    if (urgent) {
      // What somebody waits for goes before what nobody has asked for yet.
      const rest = [...this.waiting];
      this.waiting.clear();
      this.waiting.set(key, job);
      for (const [k, j] of rest) this.waiting.set(k, j);
    } else this.waiting.set(key, job);
    this.pumpAside();
    return true;
  }

  private pumpAside(): void {
    aside(this.pump(), 'a preview could not be begun');
  }

  private async pump(): Promise<void> {
    if (this.running.size >= AT_ONCE || this.stopped) return;
    const [next] = this.waiting;
    if (!next) return;
    const [key, job] = next;
    this.waiting.delete(key);
    this.running.set(key, job);
    // Others begin beside it.
    this.pumpAside();
    const ok = await this.work(job).catch((error: unknown) => {
      if (!this.stopped) log.warn({ err: error }, 'a preview could not be made');
      return false;
    });
    this.running.delete(key);
    for (const done of job.done) done(ok);
    this.pumpAside();
  }

  /** Makes what is asked for, if it is not there. @returns whether it is */
  private async work({ nodeId, sha256, kind, page }: Waiting): Promise<boolean> {
    const [known] = await this.db.query<{ state: string }[]>('SELECT state FROM preview WHERE sha256 = $1', [sha256]);
    if (known?.state === 'none') return true;
    if (kind !== 'image' && kind !== 'pages') {
      if (!known) await this.readWords(sha256);
      return true;
    }
    if (existsSync(join(this.folder(sha256), `${kind === 'pages' ? `page-${page}` : 'large'}.webp`))) return true;
    const made = await this.workshop.make(kind === 'pages' ? { kind, page } : { kind }, { sha256 });
    if ('failed' in made && !made.lasts) return false;
    await this.finished(nodeId, sha256, made);
    return !('failed' in made);
  }

  private async finished(nodeId: string, sha256: Buffer, made: Made): Promise<void> {
    if (!('failed' in made)) await this.keep(sha256, made.pictures);
    await this.events.change(async (tx) => {
      const values = 'failed' in made ? ['none', null, null, null] : ['ready', made.pages, made.width, made.height];
      await tx.query(
        `INSERT INTO preview (sha256, state, pages, width, height, made_at) VALUES ($1, $2, $3, $4, $5, $6)
          ON CONFLICT (sha256) DO UPDATE SET pages = coalesce(preview.pages, excluded.pages)`,
        [sha256, ...values, this.clock.date()],
      );
      await this.events.tell(tx, { topic: 'preview', id: nodeId });
    });
  }

  /** Each picture whole or not at all: written beside its place, then renamed. */
  private async keep(sha256: Buffer, pictures: ReadonlyMap<string, Buffer>): Promise<void> {
    const folder = this.folder(sha256);
    await mkdir(folder, { recursive: true, mode: 0o700 });
    for (const [name, bytes] of pictures) {
      // The program that made them has read a stranger's file: its word is looked at before it names a file of ours.
      if (!/^(large|thumb|page-\d{1,6})$/.test(name)) throw new Error('a picture of a strange name');
      const path = join(folder, `${name}.webp`);
      this.nextId += 1;
      const making = `${path}.${process.pid}-${this.nextId}`;
      await writeFile(making, bytes, { mode: 0o600 });
      await rename(making, path);
    }
  }

  /** The words of a text, for searching inside. */
  private async readWords(sha256: Buffer): Promise<void> {
    const blob = await this.blobs.open(sha256);
    if (!blob) return;
    const bytes = Buffer.alloc(Math.min(SEARCHED_BYTES, blob.sizeBytes));
    await blob.read(bytes, 0, bytes.length);
    await blob.close();
    const text = decodeText(bytes)?.text.replaceAll('\0', ' ').slice(0, 400_000) ?? '';
    await this.db.query(
      `INSERT INTO preview (sha256, state, words, made_at) VALUES ($1, 'none', to_tsvector('simple', $2), $3)
        ON CONFLICT (sha256) DO NOTHING`,
      [sha256, text, this.clock.date()],
    );
  }

  private async forgetGone(): Promise<void> {
    const gone = await this.db.query<{ sha256: Buffer }[]>(
      'SELECT p.sha256 FROM preview p WHERE NOT EXISTS (SELECT 1 FROM blob b WHERE b.sha256 = p.sha256) LIMIT 1000',
    );
    for (const { sha256 } of gone) await rm(this.folder(sha256), { recursive: true, force: true });
    await this.db.query('DELETE FROM preview WHERE sha256 = ANY($1)', [gone.map((g) => g.sha256)]);
  }

  /** Files that came without the server's seeing it, as from a backup: the newest first. */
  private async wantMissing(): Promise<void> {
    const rows = await this.db.query<{ id: string; name: string; sha256: Buffer; size: string }[]>(
      `SELECT n.id, n.name, v.sha256, v.size_bytes AS size FROM node n JOIN file_version v ON v.id = n.version_id
        WHERE n.trashed_at IS NULL AND n.type_key = ANY($1)
          AND NOT EXISTS (SELECT 1 FROM preview p WHERE p.sha256 = v.sha256) ORDER BY n.changed_at DESC LIMIT 1000`,
      [PREVIEWED_TYPES],
    );
    await this.want(
      this.db.manager,
      rows.map((r) => ({ id: r.id, name: r.name, sizeBytes: Number(r.size) })),
    );
  }

  private folder(sha256: Buffer): string {
    const hex = sha256.toString('hex');
    return join(this.root, hex.slice(0, 2), hex);
  }
}

function none(): Problem {
  return new Problem('not-found', 'preview.none', 'No picture can be made of this file.');
}
