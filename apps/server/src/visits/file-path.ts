import type { IncomingMessage, RequestListener, ServerResponse } from 'node:http';
import { sessionSecret } from '../people/signed-in.guard.js';
import { clientAddress } from '../platform/client-address.js';
import { cookieOf } from '../platform/cookies.js';
import { followRequest } from '../platform/log/request-log.js';
import { answerError } from '../platform/problems/problem.filter.js';
import type { DownloadService } from '../transfers/download.service.js';
import { VISIT_COOKIE, type VisitsService } from './visits.service.js';

const FILE =
  /^\/s\/([0-9A-Za-z]{22})\/files\/([0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12})(\?show=1)?$/;

/**
 * The short way for the one request that comes in hundreds: a visitor's file. The same services decide and send; only
 * the layers that such a request does not need are left out (measured in docs/benchmarks.md). Everything else goes on.
 */
export function visitorFilePath(
  visits: VisitsService,
  downloads: DownloadService,
  otherwise: RequestListener,
): RequestListener {
  return (req: IncomingMessage, res: ServerResponse): void => {
    const url = req.url ?? '';
    const match = req.method === 'GET' ? FILE.exec(url) : null;
    if (!match) {
      otherwise(req as never, res as never);
      return;
    }
    followRequest(req, res, url);
    const [, token = '', nodeId = '', show] = match;
    const visitor = {
      token,
      cookie: cookieOf(req.headers.cookie, VISIT_COOKIE),
      session: sessionSecret(req.headers.cookie),
      fromAddress: clientAddress(req),
      agent: '',
    };
    visits
      .file(visitor, nodeId)
      .then(({ file, going, taken }) => downloads.file(req, res, file, show ? 'show' : 'save', going, taken))
      .catch((error: unknown) => answerError(error, req, res));
  };
}
