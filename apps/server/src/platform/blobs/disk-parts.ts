import { open, readdir, stat, unlink, type FileHandle } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { Problem } from '../problems/problem.js';
import { PACE, type Pace } from '../pace.js';
import type { AskRoom, BlobParts, StagedBlob } from './blob-store.js';
import { flusher } from './flusher.js';
import { freshPouring, pour, take, type Pouring } from './pour.js';

const READ_BYTES = 1024 * 1024;
/** Parts whose hashes are remembered at the most. */
const STATES_MOST = 1000;
const PREFIX = 'part-';

/** Parts as files in the folder for temporary files, on the volume of the blobs. */
export class DiskParts implements BlobParts {
  /** Hashes of parts that this process has received itself, up to where they are valid. */
  private readonly states = new Map<string, Pouring>();

  constructor(
    private readonly folder: string,
    private readonly pace: Pace = PACE,
  ) {}

  async append(
    id: string,
    offset: number,
    stream: Readable,
    sizeBytes: number,
    flushedTo: (offset: number) => Promise<void>,
    ask?: AskRoom,
  ): Promise<number> {
    const file = await open(this.path(id), offset === 0 ? 'w' : 'r+', 0o600);
    let safe = offset;
    const told = async (upTo: number) => {
      await flushedTo(upTo);
      safe = upTo;
    };
    try {
      await file.truncate(offset);
      const state = await this.stateAt(id, offset, file);
      this.states.delete(id);
      const flush = flusher(file, offset, told);
      const terms = { limit: sizeBytes, each: flush.look, ask, pace: this.pace };
      const { over } = await pour(stream, file, state, terms).finally(() => flush.settled());
      if (over)
        throw new Problem(
          'invalid',
          'upload.too-long',
          'More bytes came than were announced. Nothing beyond the announced size was kept.',
        );
      await file.sync();
      await told(state.position);
      this.remember(id, state);
      return state.position;
    } catch (error) {
      // What is not counted does not stay: on a full disk it would be in the way of everything else.
      await file.truncate(safe).catch(() => undefined);
      throw error;
    } finally {
      await file.close();
    }
  }

  /** The hashes up to an offset: remembered, or made again by reading what is there. */
  private async stateAt(id: string, offset: number, file: FileHandle): Promise<Pouring> {
    const known = this.states.get(id);
    if (known?.position === offset) return known;
    const state = freshPouring();
    const buffer = Buffer.allocUnsafe(Math.min(READ_BYTES, Math.max(1, offset)));
    while (state.position < offset) {
      const { bytesRead } = await file.read(
        buffer,
        0,
        Math.min(buffer.length, offset - state.position),
        state.position,
      );
      if (bytesRead === 0)
        throw new Problem('conflict', 'upload.shortened', 'What had arrived of this upload is gone. Start it again.');
      take(state, buffer.subarray(0, bytesRead));
    }
    return state;
  }

  /** The hashes of a few parts; those of others are made again by reading what is there. */
  private remember(id: string, state: Pouring): void {
    this.states.delete(id);
    this.states.set(id, state);
    for (const [oldest] of this.states) {
      if (this.states.size <= STATES_MOST) return;
      this.states.delete(oldest);
    }
  }

  async length(id: string): Promise<number> {
    return stat(this.path(id)).then(
      (s) => s.size,
      () => 0,
    );
  }

  async finish(id: string, sizeBytes: number): Promise<StagedBlob> {
    const file = await open(this.path(id), 'r');
    try {
      const state = await this.stateAt(id, sizeBytes, file);
      await file.datasync();
      this.states.delete(id);
      return {
        sha256: state.hash.digest(),
        crc32: state.crc,
        sizeBytes,
        held: this.path(id),
        flushed: true,
        discard: () => this.remove(id),
      };
    } finally {
      await file.close();
    }
  }

  async remove(id: string): Promise<void> {
    this.states.delete(id);
    await unlink(this.path(id)).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'ENOENT') throw error;
    });
  }

  async ids(): Promise<string[]> {
    return (await readdir(this.folder))
      .filter((name) => name.startsWith(PREFIX))
      .map((name) => name.slice(PREFIX.length));
  }

  private path(id: string): string {
    return join(this.folder, PREFIX + id);
  }
}
