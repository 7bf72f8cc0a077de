import { Injectable, type OnApplicationShutdown } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import type { Request, Response } from 'express';
import { auditTime, buffer, filter, map, merge, mergeMap } from 'rxjs';
import { clientAddress } from '../platform/client-address.js';
import { Events } from '../platform/events/events.js';
import { Problem } from '../platform/problems/problem.js';

const HEARTBEAT_MS = 20_000;
/** Events of listings come in bursts; each folder is told of once in this time. */
const GATHER_MS = 150;
/** Streams that one address may hold open: a household or an office behind one address, with several pages each. */
const MOST_PER_ADDRESS = 60;
const MOST_IN_ALL = 3000;

/** Server-sent events (WHATWG HTML §9.2): long answers that tell pages what changed. */
@Injectable()
export class EventStreams implements OnApplicationShutdown {
  private readonly open_ = new Set<Response>();
  private readonly perAddress = new Map<string, number>();

  constructor(private readonly events: Events) {}

  onApplicationShutdown(): void {
    for (const res of this.open_) res.end();
  }

  /**
   * Keeps the answer open and writes what `wanted` lets through. Events of listings come in bursts; they are gathered for
   * a moment, everything else goes out at once.
   */
  open(req: Request, res: Response, wanted: (event: QuayEvent) => boolean, shown: (event: QuayEvent) => object): void {
    const address = clientAddress(req);
    const held = this.perAddress.get(address) ?? 0;
    if (held >= MOST_PER_ADDRESS || this.open_.size >= MOST_IN_ALL)
      throw new Problem(
        'too-many',
        'events.too-many',
        'Too many pages are open from your address. Close some of them.',
        { retryAfterSeconds: 30 },
      );
    this.perAddress.set(address, held + 1);
    this.open_.add(res);
    res.writeHead(200, { 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', 'X-Accel-Buffering': 'no' });
    res.write('retry: 1000\n\n');
    const chosen = this.events.stream.pipe(filter(wanted));
    const prompt = chosen.pipe(filter((e) => e.topic !== 'node'));
    const listings = chosen.pipe(filter((e) => e.topic === 'node'));
    const gathered = listings.pipe(
      buffer(listings.pipe(auditTime(GATHER_MS))),
      mergeMap((events) => new Map(events.map((e) => [e.id, e])).values()),
    );
    const subscription = merge(prompt, gathered)
      .pipe(map(shown))
      .subscribe((event) => res.write(`data: ${JSON.stringify(event)}\n\n`));
    const heartbeat = setInterval(() => res.write(':\n\n'), HEARTBEAT_MS);
    res.once('close', () => {
      clearInterval(heartbeat);
      subscription.unsubscribe();
      this.open_.delete(res);
      this.perAddress.set(address, (this.perAddress.get(address) ?? 1) - 1);
    });
  }
}
