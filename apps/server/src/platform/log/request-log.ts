import type { NextFunction, Request, Response } from 'express';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { v7 as uuidv7 } from 'uuid';
import { countRequest } from '../metrics.js';
import { log } from './log.js';

const ids = new WeakMap<object, string>();

/** The id that the log and the answer share. */
export function requestIdOf(req: object): string {
  let id = ids.get(req);
  if (!id) ids.set(req, (id = uuidv7()));
  return id;
}

/** A path as it may be logged: without the link token and without the query. */
export function loggablePath(url: string): string {
  return (url.split('?')[0] ?? '')
    .replace(/^\/(s|h|calendar|password|api\/password-links)\/[^/]+/, '/$1/:token')
    .replace(/^(\/h\/:token\/receipt)\/[^/]+/, '$1/:key');
}

/** Logs each answer when it is done; gives it its request id. */
export function requestLog(req: Request, res: Response, next: NextFunction): void {
  followRequest(req, res, req.originalUrl);
  next();
}

/** As {@link requestLog}, for requests that do not go through the framework. */
export function followRequest(req: IncomingMessage, res: ServerResponse, url: string): void {
  const began = process.hrtime.bigint();
  countRequest(req, res, url);
  res.setHeader('X-Request-Id', requestIdOf(req));
  res.once('close', () => {
    const level = res.statusCode >= 500 ? 'error' : 'info';
    if (!log.isLevelEnabled(level)) return;
    const path = loggablePath(url);
    const durationMs = Number(process.hrtime.bigint() - began) / 1e6;
    log[level](
      {
        requestId: requestIdOf(req),
        method: req.method,
        path,
        status: res.statusCode,
        durationMs: Math.round(durationMs * 10) / 10,
        complete: res.writableFinished,
      },
      'answered',
    );
  });
}
