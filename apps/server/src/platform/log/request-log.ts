import type { NextFunction, Request, Response } from 'express';
import { v7 as uuidv7 } from 'uuid';
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
  return (url.split('?')[0] ?? '').replace(/^\/(s|i)\/[^/]+/, '/$1/:token');
}

/** Logs each answer when it is done; gives it its request id. */
export function requestLog(req: Request, res: Response, next: NextFunction): void {
  const began = process.hrtime.bigint();
  res.setHeader('X-Request-Id', requestIdOf(req));
  const path = loggablePath(req.originalUrl);
  res.once('close', () => {
    const level = res.statusCode >= 500 ? 'error' : 'info';
    if (!log.isLevelEnabled(level)) return;
    const durationMs = Number(process.hrtime.bigint() - began) / 1e6;
    log[level]({ requestId: requestIdOf(req), method: req.method, path, status: res.statusCode, durationMs: Math.round(durationMs * 10) / 10, complete: res.writableFinished }, 'answered');
  });
  next();
}
