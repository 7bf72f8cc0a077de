import type { IncomingMessage, ServerResponse } from 'node:http';
import { collectDefaultMetrics, Counter, Histogram, Registry } from 'prom-client';

/**
 * What this process counts for machines that watch. Labels take few values, none of them typed by
 * anybody: no path, no name, no token.
 */
export const METRICS = new Registry();

const registers = [METRICS];
const requests = new Counter({
  ...{ name: 'quay_requests_total', help: 'Requests answered, by area, method and status.', registers },
  labelNames: ['area', 'method', 'status'],
});
const seconds = new Histogram({
  ...{ name: 'quay_request_seconds', help: 'How long answers took, by area.', registers },
  labelNames: ['area'],
  buckets: [0.005, 0.02, 0.1, 0.5, 2, 10, 60, 600],
});
const bytes = new Counter({
  ...{ name: 'quay_transferred_bytes_total', help: 'Bytes of requests and answers, heads included.', registers },
  labelNames: ['direction'],
});
const refusals = new Counter({
  ...{ name: 'quay_refusals_total', help: 'Requests that were refused, by the stable code of the refusal.', registers },
  labelNames: ['code'],
});
export const visitsCounted = new Counter({ name: 'quay_visits_total', help: 'Visits begun here.', registers });

/** What a process uses, in the usual names. */
export function measureProcess(): void {
  collectDefaultMetrics({ register: METRICS });
  // Figures that rise and fall, by names of those that only rise: what reads them objects.
  for (const what of ['handles', 'requests', 'resources']) METRICS.removeSingleMetric(`nodejs_active_${what}_total`);
}

const METHODS = new Set(['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS']);
const AREAS: [area: string, path: RegExp][] = [
  ['api', /^\/api\//],
  ['share', /^\/s\//],
  ['intake', /^\/h\//],
  ['asset', /^\/assets\//],
];

/** Counts a request when its answer is over. */
export function countRequest(req: IncomingMessage, res: ServerResponse, url: string): void {
  const { socket } = req;
  const [read, written] = [socket.bytesRead, socket.bytesWritten];
  const area = AREAS.find(([, path]) => path.test(url))?.[0] ?? 'page';
  const method = METHODS.has(req.method ?? '') ? (req.method as string) : 'other';
  const end = seconds.startTimer({ area });
  res.once('close', () => {
    end();
    requests.inc({ area, method, status: res.statusCode });
    bytes.inc({ direction: 'in' }, Math.max(0, socket.bytesRead - read));
    bytes.inc({ direction: 'out' }, Math.max(0, socket.bytesWritten - written));
  });
}

export const countRefusal = (code: string): void => refusals.inc({ code });
