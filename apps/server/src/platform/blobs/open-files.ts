import { open, type FileHandle } from 'node:fs/promises';

/** How long a file stays open after its last reader: the next one often comes at once. */
const KEPT_MS = 2000;
/** Files that are kept open without a reader. */
const MOST_KEPT = 128;

interface Held {
  file: FileHandle;
  sizeBytes: number;
}

interface Shared {
  held: Promise<Held>;
  readers: number;
  /** Closes it when nobody has come; null: somebody reads it. */
  closing: NodeJS.Timeout | null;
  /** Removed: whoever comes now finds another one, or none. */
  gone: boolean;
}

/** A file that is open for somebody. */
export interface OpenFile extends Held {
  close: () => Promise<void>;
}

/**
 * Files whose bytes never change, opened once for all who read them at the same time: two hundred downloads of one file
 * would open, look at and close it two hundred times.
 */
export class OpenFiles {
  private readonly shared = new Map<string, Shared>();

  /** @returns null when there is no such file */
  async open(path: string): Promise<OpenFile | null> {
    const shared = this.shared.get(path) ?? this.begin(path);
    shared.readers += 1;
    if (shared.closing) clearTimeout(shared.closing);
    shared.closing = null;
    try {
      const held = await shared.held;
      let closed = false;
      const close = async () => {
        if (closed) return;
        closed = true;
        await this.leave(path, shared);
      };
      return { ...held, close };
    } catch (error) {
      this.drop(path, shared);
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null;
      throw error;
    }
  }

  /** The file is being removed: its room is free as soon as nobody reads it any more. */
  async forget(path: string): Promise<void> {
    const shared = this.shared.get(path);
    if (!shared) return;
    this.drop(path, shared);
    if (shared.readers === 0) await close(shared);
  }

  /** How many are open, for tests. */
  get size(): number {
    return this.shared.size;
  }

  private begin(path: string): Shared {
    const shared: Shared = { held: openAt(path), readers: 0, closing: null, gone: false };
    this.shared.set(path, shared);
    return shared;
  }

  private async leave(path: string, shared: Shared): Promise<void> {
    shared.readers -= 1;
    if (shared.readers > 0) return;
    if (!shared.gone && this.shared.size <= MOST_KEPT) {
      shared.closing = setTimeout(() => {
        this.drop(path, shared);
        // A file that was only read has nothing to say when it is closed.
        close(shared).catch(() => undefined);
      }, KEPT_MS).unref();
      return;
    }
    this.drop(path, shared);
    await close(shared);
  }

  private drop(path: string, shared: Shared): void {
    shared.gone = true;
    if (shared.closing) clearTimeout(shared.closing);
    if (this.shared.get(path) === shared) this.shared.delete(path);
  }
}

async function openAt(path: string): Promise<Held> {
  const file = await open(path, 'r');
  try {
    return { file, sizeBytes: (await file.stat()).size };
  } catch (error) {
    await file.close();
    throw error;
  }
}

const close = async (shared: Shared): Promise<void> => (await shared.held).file.close();
