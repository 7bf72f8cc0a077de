import type { IncomingMessage, ServerResponse } from 'node:http';
import { clientAddress, sourceOf } from './client-address.js';
import type { Pace } from './pace.js';
import { sendProblem } from './problems/problem.filter.js';
import { Problem } from './problems/problem.js';

/** Requests whose small body (JSON) has begun to arrive, from one source: a page has one or two for a moment. */
const MOST_PER_SOURCE = 100;
/** Of all sources together; beyond, the one that has waited longest makes room. */
const MOST_IN_ALL = 2000;

/** Uploads are watched where their bytes are taken in. */
const UPLOAD =
  /^\/(api\/folders\/[^/]+\/(files|batch)\/?|(api|[sh]\/[^/]+)\/uploads(\/[^/]*)?|h\/[^/]+\/plain\/files\/?)(\?|$)/i;

interface Begun {
  source: string;
  end: () => void;
}

/**
 * A small body arrives whole and soon, or its request ends: nobody keeps others out by beginning what they do not end.
 */
export class BoundedBodies {
  private readonly begun = new Set<Begun>();
  private readonly perSource = new Map<string, number>();

  constructor(private readonly pace: Pace) {}

  /** @returns false when the request was refused and is answered */
  admit(req: IncomingMessage, res: ServerResponse): boolean {
    if (!hasBody(req) || UPLOAD.test(req.url ?? '')) return true;
    const source = sourceOf(clientAddress(req));
    const held = this.perSource.get(source) ?? 0;
    if (held >= MOST_PER_SOURCE) {
      sendProblem(
        new Problem('too-many', 'requests.too-many', 'Too much was begun at once from where you are.', {
          retryAfterSeconds: 10,
        }),
        req,
        res,
      );
      return false;
    }
    const [oldest] = this.begun.size >= MOST_IN_ALL ? this.begun : [];
    oldest?.end();
    this.follow(req, res, source, held);
    return true;
  }

  private follow(req: IncomingMessage, res: ServerResponse, source: string, held: number): void {
    const late = () => {
      if (!req.complete)
        sendProblem(new Problem('too-slow', 'request.too-slow', 'The request did not arrive whole in time.'), req, res);
    };
    const entry: Begun = { source, end: late };
    const timer = setTimeout(late, this.pace.bodyMs).unref();
    const done = () => {
      clearTimeout(timer);
      if (!this.begun.delete(entry)) return;
      const left = (this.perSource.get(source) ?? 1) - 1;
      if (left > 0) this.perSource.set(source, left);
      else this.perSource.delete(source);
    };
    this.begun.add(entry);
    this.perSource.set(source, held + 1);
    req.once('end', done).once('close', done);
    res.once('close', done);
  }
}

const hasBody = (req: IncomingMessage): boolean =>
  req.headers['transfer-encoding'] !== undefined || Number(req.headers['content-length'] ?? 0) > 0;
