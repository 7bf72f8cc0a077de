import { Injectable, type OnApplicationShutdown } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import type { Request, Response } from 'express';
import { auditTime, buffer, concatMap, filter, merge, mergeMap, type Observable } from 'rxjs';
import { aside } from '../platform/aside.js';
import { Events } from '../platform/events/events.js';
import { Problem } from '../platform/problems/problem.js';

const HEARTBEAT_MS = 20_000;
/** Events of listings come in bursts; each folder is told of once in this time. */
const GATHER_MS = 150;
/** Streams of one listener (a signed-in person, a visit): several pages, in several browsers. */
const MOST_PER_LISTENER = 30;
const MOST_IN_ALL = 3000;

/** Who listens, and to what. */
export interface Listener {
  /** Streams are counted by this: never by an address, which a whole office may share. */
  key: string;
  /** Whether an event is theirs to hear. */
  wanted: (event: QuayEvent) => boolean | Promise<boolean>;
  /** What is told of it. */
  shown: (event: QuayEvent) => object;
  /** Whether they may still listen; asked at each heartbeat, and at once after events that `unsettles` names. */
  still: () => Promise<boolean>;
  unsettles: (event: QuayEvent) => boolean;
}

/**
 * Server-sent events (WHATWG HTML §9.2): long answers that tell pages what changed, for as long as they may hear it.
 */
@Injectable()
export class EventStreams implements OnApplicationShutdown {
  private readonly open_ = new Set<Response>();
  private readonly perListener = new Map<string, number>();

  constructor(private readonly events: Events) {}

  onApplicationShutdown(): void {
    for (const res of this.open_) res.end();
  }

  /** Keeps the answer open. Events of listings are gathered for a moment, everything else goes out at once. */
  open(req: Request, res: Response, listener: Listener): void {
    const held = this.perListener.get(listener.key) ?? 0;
    if (held >= MOST_PER_LISTENER || this.open_.size >= MOST_IN_ALL)
      throw new Problem('too-many', 'events.too-many', 'Too many pages are open. Close some of them.', {
        retryAfterSeconds: 30,
      });
    this.perListener.set(listener.key, held + 1);
    this.open_.add(res);
    res.writeHead(200, { 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', 'X-Accel-Buffering': 'no' });
    res.write('retry: 1000\n\n');
    const unlessOver = async () => {
      // The database being away is no reason to end what may go on.
      if (!(await listener.still().catch(() => true))) res.end();
    };
    const subscription = this.toldTo(listener).subscribe((event) => {
      if (!res.writableEnded) res.write(`data: ${JSON.stringify(listener.shown(event))}\n\n`);
    });
    const unsettling = this.events.stream.pipe(filter(listener.unsettles)).subscribe(() => {
      // What the change itself tells goes out first.
      setImmediate(() => aside(unlessOver(), 'a stream of events could not be looked at'));
    });
    const heartbeat = setInterval(() => {
      res.write(':\n\n');
      aside(unlessOver(), 'a stream of events could not be looked at');
    }, HEARTBEAT_MS);
    res.once('close', () => {
      clearInterval(heartbeat);
      subscription.unsubscribe();
      unsettling.unsubscribe();
      this.open_.delete(res);
      const left = (this.perListener.get(listener.key) ?? 1) - 1;
      if (left > 0) this.perListener.set(listener.key, left);
      else this.perListener.delete(listener.key);
    });
  }

  private toldTo(listener: Listener): Observable<QuayEvent> {
    const prompt = this.events.stream.pipe(filter((e) => e.topic !== 'node'));
    const listings = this.events.stream.pipe(filter((e) => e.topic === 'node'));
    const gathered = listings.pipe(
      buffer(listings.pipe(auditTime(GATHER_MS))),
      mergeMap((events) => new Map(events.map((e) => [e.id, e])).values()),
    );
    return merge(prompt, gathered).pipe(
      concatMap(async (event) => ((await this.mayHear(listener, event)) ? [event] : [])),
      mergeMap((events) => events),
    );
  }

  /** When it cannot be found out, it is not told; the page asks anew when the connection is made again. */
  private async mayHear(listener: Listener, event: QuayEvent): Promise<boolean> {
    try {
      return await listener.wanted(event);
    } catch {
      return false;
    }
  }
}
