import { Problem } from './problems/problem.js';

interface Waiting {
  key: string;
  begin: () => void;
}

/**
 * Lets costly work in so many at once, and only one for each key, so that whoever asks for much waits for themselves
 * and not everybody for them.
 */
export class Turns {
  private readonly running = new Set<string>();
  private readonly waiting: Waiting[] = [];

  constructor(
    private readonly atOnce: number,
    private readonly waitingPerKey: number,
  ) {}

  /** @throws Problem turns.too-many when too many of the same key wait already; what the work throws */
  async run<T>(key: string, work: () => Promise<T>): Promise<T> {
    if (this.running.has(key) || this.running.size >= this.atOnce) {
      if (this.waiting.filter((w) => w.key === key).length >= this.waitingPerKey)
        throw new Problem(
          'too-many',
          'turns.too-many',
          'Too much is being made for you already. Wait for it to be done.',
          {
            retryAfterSeconds: 5,
          },
        );
      await new Promise<void>((begin) => this.waiting.push({ key, begin }));
    }
    this.running.add(key);
    try {
      return await work();
    } finally {
      this.running.delete(key);
      this.next();
    }
  }

  private next(): void {
    const at = this.waiting.findIndex((w) => !this.running.has(w.key));
    if (at < 0 || this.running.size >= this.atOnce) return;
    const [next] = this.waiting.splice(at, 1) as [Waiting];
    // Taken at once, so that nobody comes in between.
    this.running.add(next.key);
    next.begin();
  }
}
