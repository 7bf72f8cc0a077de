import cluster, { type Worker } from 'node:cluster';
import { randomUUID } from 'node:crypto';
import { log } from './log/log.js';
import { METRICS } from './metrics.js';

/** Said by a process that serves to the one that leads, and the other way round. */
type Said =
  | { ready: true }
  | { failed: string }
  | { beat: true }
  | { figuresAsked: string }
  | { figuresWanted: string }
  | { figures: string; of: object[] }
  | { figuresOfAll: string; all: object[][] };

const BEAT_MS = 5000;
/** One that has not been heard of for this long hangs, and is replaced. */
const SILENT_MS = 30_000;
const AGAIN_MS = 1000;
/** So many that end within a minute will not be mended by another. */
const ENDED_MOST = 5;
const MINUTE = 60_000;
const FIGURES_MS = 2000;

/**
 * Leads several processes that serve on the same ports: one that dies or hangs is replaced, and all end with this one.
 * Resolves when all serve.
 * @throws Error when one cannot begin
 */
export function lead(count: number): Promise<void> {
  return new Promise((resolve, reject) => new Leader(count, resolve, reject).begin());
}

class Leader {
  private readonly heard = new Map<Worker, number>();
  private readonly ended: number[] = [];
  private readonly asked = new Map<string, { by: Worker; all: object[][]; timer: NodeJS.Timeout }>();
  private ready = 0;
  private ending = false;

  constructor(
    private readonly count: number,
    private readonly allReady: () => void,
    private readonly failed: (error: Error) => void,
  ) {}

  begin(): void {
    // Each takes connections itself when it has time: handed over by this one, those that are on their way to a process
    // that dies would wait for ever.
    cluster.schedulingPolicy = cluster.SCHED_NONE;
    cluster.on('message', (worker, said: Said) => this.hear(worker, said));
    cluster.on('exit', (worker) => this.replace(worker));
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => this.end());
    for (let n = 0; n < this.count; n += 1) this.fork();
    setInterval(() => this.endSilent(), BEAT_MS).unref();
  }

  private fork(): void {
    this.heard.set(cluster.fork(), Date.now());
  }

  private hear(worker: Worker, said: Said): void {
    this.heard.set(worker, Date.now());
    if ('ready' in said) this.ready += 1;
    if ('ready' in said && this.ready === this.count) this.allReady();
    if ('failed' in said) this.failed(new Error(said.failed));
    if ('figuresAsked' in said) this.collect(worker, said.figuresAsked);
    if ('figures' in said) this.add(said.figures, said.of);
  }

  private replace(worker: Worker): void {
    this.heard.delete(worker);
    if (this.ending) {
      if (this.heard.size === 0) process.exit(0);
      return;
    }
    const now = Date.now();
    this.ended.push(now);
    if (this.ended.filter((at) => now - at < MINUTE).length > ENDED_MOST) {
      log.fatal('server processes end again and again; the lines above say why');
      process.exitCode = 1;
      return this.end();
    }
    log.warn({ pid: worker.process.pid }, 'a server process ended; another takes its place');
    setTimeout(() => !this.ending && this.fork(), AGAIN_MS);
  }

  private endSilent(): void {
    for (const [worker, at] of this.heard)
      if (Date.now() - at > SILENT_MS) {
        log.error({ pid: worker.process.pid }, 'a server process hangs, and is ended');
        worker.process.kill('SIGKILL');
      }
  }

  private end(): void {
    this.ending = true;
    if (this.heard.size === 0) process.exit();
    for (const worker of this.heard.keys()) worker.process.kill('SIGTERM');
  }

  /** What all processes count, for the one that was asked. */
  private collect(by: Worker, id: string): void {
    const timer = setTimeout(() => this.answer(id), FIGURES_MS);
    this.asked.set(id, { by, all: [], timer });
    for (const worker of this.heard.keys()) worker.send({ figuresWanted: id } satisfies Said);
  }

  private add(id: string, of: object[]): void {
    const asked = this.asked.get(id);
    asked?.all.push(of);
    if (asked?.all.length === this.heard.size) this.answer(id);
  }

  private answer(id: string): void {
    const asked = this.asked.get(id);
    if (!asked) return;
    clearTimeout(asked.timer);
    this.asked.delete(id);
    if (asked.by.isConnected()) asked.by.send({ figuresOfAll: id, all: asked.all } satisfies Said);
  }
}

/** In a process that is led: says that it lives, and what it counts. */
export function follow(): void {
  const say = (said: Said) => void process.send?.(said, undefined, undefined, () => undefined);
  setInterval(() => say({ beat: true }), BEAT_MS).unref();
  process.on('message', (said: Said) => {
    if ('figuresWanted' in said)
      METRICS.getMetricsAsJSON().then(
        (of) => say({ figures: said.figuresWanted, of }),
        (error: unknown) => log.warn({ err: error }, 'figures could not be told'),
      );
  });
}

/** What every server process of this machine counts; one that does not answer in time is left out. */
export async function figuresOfAll(): Promise<object[][]> {
  if (!cluster.isWorker) return [await METRICS.getMetricsAsJSON()];
  const id = randomUUID();
  return new Promise((resolve) => {
    const hear = (said: Said) => {
      if (!('figuresOfAll' in said) || said.figuresOfAll !== id) return;
      clearTimeout(late);
      process.off('message', hear);
      resolve(said.all);
    };
    const late = setTimeout(() => {
      process.off('message', hear);
      resolve([]);
    }, 2 * FIGURES_MS);
    process.on('message', hear);
    process.send?.({ figuresAsked: id } satisfies Said);
  });
}
