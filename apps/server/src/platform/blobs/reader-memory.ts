/** A large buffer; fast readers take turns with two of them, or have a few pieces made ready before their turn. */
export const LARGE_BYTES = 1024 * 1024;
/** What a reader holds who has been slow once. */
export const SMALL_BYTES = 64 * 1024;
/** Large buffers of all readers together. */
const LARGE_MOST = 64;
/** Who finds no large buffer waits so long for one: with many readers each has one for a moment. */
const TURN_MS = 100;
/** Readers that are served at once; more are asked to come again. */
const READERS_MOST = 1500;
/** A write that takes longer than this was waiting for its reader. */
export const STALLED_MS = 250;

/** Buffers that are kept for the next readers: to make one anew costs as much as to fill it. */
const spare: Buffer[] = [];
const SPARE_MOST = LARGE_MOST;
/** When many have read and few do, no more than these stay. */
const SPARE_IN_QUIET = 4;
const QUIET_MS = 10_000;
let quiet: NodeJS.Timeout | null = null;
let largeHeld = 0;
let readers = 0;

/** Whether another reader can be served: what all of them hold together has a limit. */
export const hasRoomForReader = (): boolean => readers < READERS_MOST;

/** What is held now, for tests and for whoever looks after the server. */
export const readersHold = (): { readers: number; largeBytes: number } => ({
  readers,
  largeBytes: largeHeld * LARGE_BYTES,
});

/**
 * The memory of one reader. Everybody begins with little; whoever takes it promptly gets large buffers while there are
 * any, and whoever stalls gives them back with the next write that has gone.
 */
export class ReaderMemory {
  private large = 0;

  constructor() {
    readers += 1;
  }

  get isLarge(): boolean {
    return this.large > 0;
  }

  /** Large buffers that this reader may use. */
  get largeCount(): number {
    return this.large;
  }

  /** Takes so many large buffers, all or none. */
  grow(count: number): boolean {
    if (this.large > 0 || turns.size > 0 || largeHeld + count > LARGE_MOST) return false;
    this.take(count);
    return true;
  }

  /**
   * Takes so many, or one as soon as its turn comes. @returns false when none became free soon: slow readers hold them
   */
  async growInTurn(count: number): Promise<boolean> {
    if (this.grow(count) || this.grow(1)) return true;
    return new Promise((resolve) => {
      const given = () => {
        clearTimeout(timer);
        turns.delete(given);
        this.take(1);
        resolve(true);
      };
      const timer = setTimeout(() => {
        turns.delete(given);
        resolve(false);
      }, TURN_MS);
      turns.add(given);
    });
  }

  shrink(): void {
    largeHeld -= this.large;
    this.large = 0;
    while (largeHeld < LARGE_MOST) {
      const [next] = turns;
      if (!next) return;
      next();
    }
  }

  end(): void {
    this.shrink();
    readers -= 1;
  }

  private take(count: number): void {
    this.large = count;
    largeHeld += count;
  }
}

/** Who waits for a large buffer, in the order in which they came. */
const turns = new Set<() => void>();

export function takeLarge(): Buffer {
  return spare.pop() ?? Buffer.allocUnsafeSlow(LARGE_BYTES);
}

/** A buffer goes back only when the connection no longer holds it. */
export function giveLarge(buffer: Buffer): void {
  if (spare.length < SPARE_MOST) spare.push(buffer);
  if (spare.length <= SPARE_IN_QUIET) return;
  if (quiet) quiet.refresh();
  else quiet = setTimeout(() => spare.splice(SPARE_IN_QUIET), QUIET_MS).unref();
}
