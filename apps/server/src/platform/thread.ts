import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';

interface Waiting {
  done: (answer: never) => void;
  failed: (error: Error) => void;
}

interface Answer {
  id: number;
  answer?: unknown;
  /** What went wrong, with the code that the system gave. */
  error?: { message: string; code?: string };
}

/** So little is kept there that a small heap will do; what it works on lies outside of it. */
const LIMITS = { maxYoungGenerationSizeMb: 2, maxOldGenerationSizeMb: 64 };

/**
 * A thread that answers questions, each by itself, in the order in which they come. It starts when it is first asked.
 */
export class Thread {
  private worker: Worker | null = null;
  private readonly waiting = new Map<number, Waiting>();
  private lastId = 0;

  /** @param script a compiled module of the server, from its root */
  constructor(private readonly script: string) {}

  /** Questions that are not answered yet. */
  get asked(): number {
    return this.waiting.size;
  }

  /**
   * @param transfer memory that goes over to the thread and is not ours any more
   * @throws what the thread's part of the work threw, and that the thread ended
   */
  ask<Told>(act: string, given: object, transfer: ArrayBuffer[] = []): Promise<Told> {
    this.lastId += 1;
    const id = this.lastId;
    return new Promise<Told>((done, failed) => {
      this.waiting.set(id, { done, failed });
      const worker = this.running();
      worker.ref();
      worker.postMessage({ id, act, given }, transfer);
    });
  }

  private running(): Worker {
    if (this.worker) return this.worker;
    const worker = new Worker(compiled(this.script), { resourceLimits: LIMITS });
    worker.on('message', ({ id, answer, error }: Answer) => {
      const asked = this.waiting.get(id);
      this.waiting.delete(id);
      // A process that has nothing else to do does not wait for a thread that has nothing to do either.
      if (this.waiting.size === 0) worker.unref();
      if (error) asked?.failed(Object.assign(new Error(error.message), { code: error.code }));
      else asked?.done(answer as never);
    });
    const ended = (error: Error) => {
      if (this.worker === worker) this.worker = null;
      for (const { failed } of this.waiting.values()) failed(error);
      this.waiting.clear();
    };
    worker.on('error', ended);
    worker.on('exit', () => ended(new Error(`the thread ${this.script} ended`)));
    this.worker = worker;
    return worker;
  }
}

/** Where a module lies compiled: beside this one, or where it is built when this one runs as it is written. */
function compiled(script: string): string {
  const beside = join(import.meta.dirname, '..', script);
  return existsSync(beside) ? beside : join(import.meta.dirname, '../../dist', script);
}
