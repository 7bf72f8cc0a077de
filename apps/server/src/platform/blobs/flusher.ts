import type { FileHandle } from 'node:fs/promises';

/** How much may arrive before it is flushed and counted as safe. */
const FLUSH_EVERY_BYTES = 64 * 1024 * 1024;

export interface Flusher {
  /** Told how much is written without a gap; begins a flush when it is time for one. */
  look: (written: number) => void;
  /**
   * Resolves when no flush is under way.
   * @throws what a flush failed with: the disk tells of it once, so a later flush would seem to have gone well
   */
  settled: () => Promise<void>;
}

/**
 * Flushes a file from time to time without holding up what arrives, so that little is left to flush at the end; one
 * flush at a time.
 * @param from how much of it is on the disk already, in bytes
 * @param flushedTo told after each flush up to where the file is safe
 */
export function flusher(
  file: Pick<FileHandle, 'datasync'>,
  from: number,
  flushedTo?: (offset: number) => Promise<void>,
  everyBytes = FLUSH_EVERY_BYTES,
): Flusher {
  let flushed = from;
  let running: Promise<void> | null = null;
  let failure: { error: unknown } | null = null;
  const flush = async (written: number) => {
    try {
      await file.datasync();
      await flushedTo?.(written);
      flushed = written;
    } catch (error) {
      failure = { error };
    } finally {
      running = null;
    }
  };
  return {
    look: (written) => {
      if (running || failure || written - flushed < everyBytes) return;
      running = flush(written);
    },
    settled: async () => {
      await running;
      if (failure) throw failure.error;
    },
  };
}
