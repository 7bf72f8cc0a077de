import type { IncomingMessage, RequestListener, ServerResponse } from 'node:http';
import { answering } from '../platform/problems/problem.filter.js';
import { Problem } from '../platform/problems/problem.js';
import type { SetupService } from './setup.service.js';

/** What the page of the first start needs: its answers, itself, and what it is made of; and what machines ask. */
const OF_THE_FIRST_START =
  /^\/((healthz|readyz|metrics)$|api\/setup(\/|$|\?)|begin\/?($|\?)|assets\/|[\w-]+\.(svg|png|ico|webmanifest)($|\?))/;

/**
 * Stands before everything else while there is no office: pages lead to the first start, and nothing else is answered.
 * @param rest who answers once there is an office
 * @param framework who answers for the first start
 */
export function setupGate(setup: SetupService, rest: RequestListener, framework: RequestListener): RequestListener {
  let open = false;
  const decide = answering(async (req: IncomingMessage, res: ServerResponse) => {
    open = await setup.begun();
    const url = req.url ?? '/';
    if (open) return void rest(req as never, res as never);
    if (OF_THE_FIRST_START.test(url)) return void framework(req as never, res as never);
    if (req.method === 'GET' && !/^\/(api|s)\//.test(url) && /text\/html/.test(req.headers.accept ?? '')) {
      res.writeHead(302, { Location: '/begin', 'Cache-Control': 'no-store', 'Content-Length': '0' }).end();
      return;
    }
    throw new Problem('unavailable', 'setup.unfinished', 'This server has not been set up yet.');
  });
  return (req, res) => (open ? rest(req, res) : decide(req, res));
}
