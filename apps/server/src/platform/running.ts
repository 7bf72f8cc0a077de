import { Injectable, type OnApplicationShutdown, type OnModuleInit } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { aside } from './aside.js';
import { Clock } from './clock.js';
import { Events } from './events/events.js';

/** What was decided about something that goes on, and until when that holds by itself; null: without an end. */
export interface Decided {
  may: boolean;
  until: Date | null;
}

/** Something that goes on for a while because somebody may: an upload, a download. */
export interface Running {
  /** Decides anew. When it cannot be decided (the database is away), it goes on and is asked again. */
  decide: () => Promise<Decided>;
  /** Whether an event could have changed the decision. */
  wakes: (event: QuayEvent) => boolean;
}

interface Watched extends Running {
  destroy: () => void;
  until: number | null;
  state: 'quiet' | 'asking' | 'asking again';
}

const STEP_MS = 1000;

/**
 * Asks again about what goes on: at events that could have changed the answer, when it ends by itself, and each second
 * while events might be missed. What may not go on is destroyed, not ended: whoever reads must not take a part for the
 * whole.
 */
@Injectable()
export class RunningWork implements OnModuleInit, OnApplicationShutdown {
  private readonly watched = new Set<Watched>();
  private step: NodeJS.Timeout | null = null;

  constructor(
    private readonly events: Events,
    private readonly clock: Clock,
  ) {}

  onModuleInit(): void {
    this.events.stream.subscribe((event) => {
      for (const work of this.watched) if (event.topic === 'missed' || work.wakes(event)) this.ask(work);
    });
  }

  onApplicationShutdown(): void {
    if (this.step) clearInterval(this.step);
  }

  /** Runs something and watches over it meanwhile. @param until when what was decided before it began ends by itself */
  async while<T>(running: Running, until: Date | null, destroy: () => void, work: () => Promise<T>): Promise<T> {
    const watched: Watched = { ...running, destroy, until: until?.getTime() ?? null, state: 'quiet' };
    this.watched.add(watched);
    // What happened between the decision and this moment was heard by nobody.
    this.ask(watched);
    this.step ??= setInterval(() => this.look(), STEP_MS).unref();
    try {
      return await work();
    } finally {
      this.watched.delete(watched);
      if (this.watched.size === 0 && this.step) {
        clearInterval(this.step);
        this.step = null;
      }
    }
  }

  private look(): void {
    const now = this.clock.now();
    for (const work of this.watched)
      if (!this.events.listening || (work.until !== null && work.until <= now)) this.ask(work);
  }

  private ask(work: Watched): void {
    // What happens while it is being asked may not be in the answer.
    if (work.state === 'quiet') aside(this.decide(work), 'what goes on could not be looked at');
    else work.state = 'asking again';
  }

  private async decide(work: Watched): Promise<void> {
    do {
      work.state = 'asking';
      // Whoever remembers something hears of the event too, and has forgotten it by then.
      await new Promise((resolve) => setImmediate(resolve));
      const decided = await work.decide().catch(() => null);
      if (!this.watched.has(work)) return;
      if (decided?.may === false) return work.destroy();
      if (decided) work.until = decided.until?.getTime() ?? null;
    } while ((work.state as string) === 'asking again');
    work.state = 'quiet';
  }
}
