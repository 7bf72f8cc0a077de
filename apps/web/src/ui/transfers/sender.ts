import type { BatchAnswer } from '@quay/contract';
import { v7 as uuidv7 } from 'uuid';
import { api, ApiProblem } from '../api';
import { finishResumable, retryable, sendBatch, sendResumable, type Sending } from './engine';
import type { Fault, Transfer, TransferEvent } from './machine';
import { isSmall, nextPieces } from './plan';

const AT_ONCE = 3;
const AGAIN_AFTER_MS = 3000;
/** After so many tries a batch is taken apart, in case one of its files is what breaks it. */
const TRIES_OF_BATCH = 4;
/** A tar head and its padding, which count as bytes that were sent. */
const HEAD_BYTES = 1024;

/** What the sender reads and tells of. */
export interface Board {
  list: () => readonly Transfer[];
  /** Together, because ten thousand rows are looked through each time. */
  tell: (events: ReadonlyMap<number, TransferEvent>) => void;
  begun: (t: Transfer) => void;
  ended: (transfers: readonly Transfer[]) => void;
}

/** Sends what waits, a few pieces at a time; tells what becomes of each, and knows nothing of how that is shown. */
export class Sender {
  private readonly running = new Map<number, Sending>();
  private readonly timers = new Set<ReturnType<typeof setTimeout>>();
  /** Folders made on the way, by parent and name, so that a thousand files ask once for each. */
  private readonly folders = new Map<string, Promise<string>>();
  /** The same files make the same batch, so that one whose answer was lost is not taken twice. */
  private readonly batchIds = new Map<string, string>();

  constructor(private readonly board: Board) {}

  /** Begins as much as may run at once. Called whenever something waits or has ended. */
  pump(): void {
    const free = AT_ONCE - new Set(this.running.values()).size;
    if (free <= 0) return;
    const waiting = this.board.list().filter((t) => t.state === 'waiting' && t.file);
    for (const piece of nextPieces(waiting, free)) {
      this.board.tell(toEach(idsOf(piece), { type: 'goes-out' }));
      const first = piece[0] as Transfer;
      // A batch of one that was taken apart goes as a resumable upload.
      const batch = isSmall(first) && first.tries < TRIES_OF_BATCH;
      void (batch ? this.sendMany(piece) : this.sendOne(first));
    }
  }

  /** Folders may have gone since; they are asked for again. */
  forgetFolders(): void {
    this.folders.clear();
  }

  /** Stops these; what has arrived stays on the server. */
  stop(transfers: readonly Transfer[]): void {
    for (const { id } of transfers) {
      this.running.get(id)?.pause();
      this.running.delete(id);
    }
  }

  /** Stops everything, and whatever would have begun again by itself. */
  stopAll(): void {
    for (const timer of this.timers) clearTimeout(timer);
    this.timers.clear();
    for (const sending of new Set(this.running.values())) sending.pause();
    this.running.clear();
    this.folders.clear();
    this.batchIds.clear();
  }

  /** Ends uploads that have arrived whole, by what was decided about their names. */
  finish(whole: readonly Transfer[]): void {
    for (const t of whole)
      finishResumable(t.url as string, t.conflict).then(
        () => this.done([t]),
        (error: Error) => this.tell(t, { type: 'refused', fault: faultOf(error) }),
      );
  }

  private async sendMany(piece: Transfer[]): Promise<void> {
    const [first] = piece as [Transfer];
    const ids = idsOf(piece);
    const batchId = this.batchIds.get(ids.join()) ?? uuidv7();
    this.batchIds.set(ids.join(), batchId);
    const files = piece.map((t) => ({ file: t.file as File, below: t.below, name: t.name }));
    const spread = throttled((sent) => this.spread(piece, sent));
    const sending = sendBatch(files, first.folderId, first.conflict, batchId, spread);
    for (const id of ids) this.running.set(id, sending);
    try {
      this.answered(piece, await sending.answer);
      this.batchIds.delete(ids.join());
    } catch (error) {
      this.broken(piece, error);
    }
    this.free(ids, sending);
  }

  /** Bytes of a batch are those of its files, one after the other. */
  private spread(piece: Transfer[], sent: number): void {
    let left = sent;
    const events = new Map<number, TransferEvent>();
    for (const t of piece) {
      events.set(t.id, { type: 'progress', sentBytes: Math.max(0, left) });
      left -= t.sizeBytes + HEAD_BYTES;
    }
    this.board.tell(events);
  }

  private answered(piece: Transfer[], { entries }: BatchAnswer): void {
    const arrived: Transfer[] = [];
    const refused = new Map<number, TransferEvent>();
    for (const [index, t] of piece.entries()) {
      const entry = entries[index];
      const fault = entry ?? { code: 'unexpected', words: 'The server did not say what became of it.' };
      if ('answer' in fault) arrived.push(t);
      else refused.set(t.id, { type: 'refused', fault });
    }
    this.board.tell(refused);
    this.done(arrived);
  }

  private async sendOne(t: Transfer): Promise<void> {
    // Its place among those that run is taken from now on, also while its folders are made.
    let sending: Sending = { pause: () => undefined };
    this.running.set(t.id, sending);
    try {
      const folderId = await this.folderFor(t.folderId, t.below);
      if (this.running.get(t.id) !== sending) return;
      const file = { file: t.file as File, below: [], name: t.name };
      const upload = sendResumable(file, folderId, t.conflict, t.url, {
        begun: (url) => {
          this.tell(t, { type: 'begun', url });
          this.board.begun({ ...t, url });
        },
        progress: throttled((sentBytes) => this.tell(t, { type: 'progress', sentBytes })),
      });
      sending = upload;
      this.running.set(t.id, sending);
      await upload.answer;
      this.done([t]);
    } catch (error) {
      this.broken([t], error);
    } finally {
      this.free([t.id], sending);
    }
  }

  private broken(piece: Transfer[], error: unknown): void {
    const ids = idsOf(piece);
    const fault = faultOf(error);
    const status = error instanceof ApiProblem ? error.status : 0;
    // Who pauses one file of a batch pauses the batch.
    if (fault.code === 'paused') this.board.tell(toEach(ids, { type: 'pause' }));
    else if (status === 404 && piece.some((t) => this.now(t)?.url)) this.board.tell(toEach(ids, { type: 'vanished' }));
    else if (fault.code !== 'name.taken' && error instanceof ApiProblem && retryable(status)) {
      this.board.tell(toEach(ids, { type: 'broke-off', fault }));
      this.later(ids);
    } else this.board.tell(toEach(ids, { type: 'refused', fault }));
  }

  private later(ids: number[]): void {
    const timer = setTimeout(() => {
      this.timers.delete(timer);
      this.board.tell(toEach(ids, { type: 'goes-on' }));
      this.pump();
    }, AGAIN_AFTER_MS);
    this.timers.add(timer);
  }

  private done(arrived: Transfer[]): void {
    this.board.tell(toEach(idsOf(arrived), { type: 'done' }));
    this.board.ended(arrived);
  }

  private tell(t: Transfer, event: TransferEvent): void {
    this.board.tell(toEach([t.id], event));
  }

  /** Whoever was stopped may run again by now, as something else. */
  private free(ids: number[], sending: Sending): void {
    for (const id of ids) if (this.running.get(id) === sending) this.running.delete(id);
    this.pump();
  }

  private now({ id }: Transfer): Transfer | undefined {
    return this.board.list().find((t) => t.id === id);
  }

  private async folderFor(folderId: string, below: string[]): Promise<string> {
    let parent = folderId;
    for (const name of below) parent = await this.folder(parent, name);
    return parent;
  }

  private folder(parent: string, name: string): Promise<string> {
    const key = `${parent}/${name}`;
    const known = this.folders.get(key);
    if (known) return known;
    const path = `/api/folders/${parent}/folders`;
    const made = api<{ id: string }>('POST', path, { name, ifExists: 'use' }).then((f) => f.id);
    this.folders.set(key, made);
    made.catch(() => this.folders.delete(key));
    return made;
  }
}

const idsOf = (transfers: readonly Transfer[]): number[] => transfers.map((t) => t.id);

/** The same event for each of these. */
export const toEach = (ids: readonly number[], event: TransferEvent): Map<number, TransferEvent> =>
  new Map(ids.map((id) => [id, event]));

function faultOf(error: unknown): Fault {
  return error instanceof ApiProblem
    ? { code: error.code, words: error.message }
    : { code: 'unexpected', words: 'That did not work.' };
}

/** At most five times a second: a bar that moves more often is not seen to. */
function throttled(tell: (value: number) => void): (value: number) => void {
  let last = 0;
  return (value) => {
    const now = Date.now();
    if (now - last < 200) return;
    last = now;
    tell(value);
  };
}
