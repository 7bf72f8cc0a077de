import { Catch, HttpException, type ArgumentsHost, type ExceptionFilter } from '@nestjs/common';
import { PROBLEM_STATUS, type ProblemBody, type ProblemKind } from '@quay/contract';
import type { Request, Response } from 'express';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { log } from '../log/log.js';
import { countRefusal } from '../metrics.js';
import { requestIdOf } from '../log/request-log.js';
import { Problem } from './problem.js';

const TITLES: Record<ProblemKind, string> = {
  invalid: 'The request is not valid',
  unauthenticated: 'Please sign in',
  forbidden: 'Not allowed',
  'not-found': 'Not found',
  'too-slow': 'Too slow',
  conflict: 'That does not fit with what is there',
  gone: 'No longer open',
  'too-large': 'Too large',
  'range-not-satisfiable': 'There is nothing at that range',
  misdirected: 'Not here',
  'too-many': 'Too many tries',
  unexpected: 'Something went wrong on the server',
  unavailable: 'Not available just now',
  'no-space': 'The disk is full',
};

/** Turns whatever was thrown into the Problem that is answered; unknown errors become a plain 500. */
export function asProblem(error: unknown): Problem {
  if (error instanceof Problem) return error;
  const known = error as {
    code?: string;
    syscall?: string;
    type?: string;
    status?: number;
    driverError?: { code?: string };
  };
  const code = known.driverError?.code ?? known.code ?? '';
  if (isDatabaseAway(code, error))
    return new Problem(
      'unavailable',
      'database.unavailable',
      'The database is not answering. Try again in a moment; nothing was lost.',
      { retryAfterSeconds: 2 },
    );
  if (code === 'ENOSPC' || code === 'EDQUOT' || code === '53100')
    return new Problem('no-space', 'disk.full', 'The server has no room left for this. Nothing was kept of it.');
  if (['EACCES', 'EPERM', 'EROFS', 'ENOENT', 'EIO'].includes(code) && known.syscall)
    return new Problem(
      'unavailable',
      'disk.unwritable',
      'The server cannot read or write its folder for files. Nothing was kept; tell whoever runs it.',
    );
  // 23505: two came to one name at the same moment, and the index let the first in (schema-0001).
  if (code === '23505' && constraintOf(error) === 'node_one_name_per_folder')
    return new Problem(
      'conflict',
      'name.taken',
      'Somebody gave something that name there at this moment. Choose another.',
    );
  // Raised by the database itself where bytes are counted (schema-0004).
  if (code === 'QU507') return quotaPassed(error as Error);
  // Raised by the database itself (schema-0008).
  if (code === 'QU409')
    return new Problem(
      'conflict',
      'duty.last-runner',
      'Nobody would be left to run the server. Let somebody else do it first.',
    );
  // 40001 and 40P01 (PostgreSQL, Appendix A): the transaction lost a race and was rolled back whole.
  if (code === '40001' || code === '40P01')
    return new Problem('conflict', 'conflict.busy', 'Somebody changed the same thing at that moment. Try again.');
  if (known.type === 'entity.too.large')
    return new Problem('too-large', 'request.too-large', 'The request is larger than anything this address takes.');
  if (known.type === 'entity.parse.failed')
    return new Problem('invalid', 'request.not-json', 'The request is not valid JSON.');
  if (error instanceof HttpException) return fromHttpException(error);
  if (typeof known.status === 'number' && known.status >= 400 && known.status < 500)
    return new Problem('invalid', 'request.invalid', 'The request could not be read.');
  return new Problem('unexpected', 'unexpected', 'This was not expected. The request id helps to find out why.');
}

const constraintOf = (error: unknown): string | undefined =>
  (error as { driverError?: { constraint?: string } }).driverError?.constraint;

function quotaPassed(error: Error): Problem {
  return error.message.includes('quota.person')
    ? new Problem(
        'no-space',
        'quota.person',
        'That is more than what is left of your quota. Delete old files for good, or ask for more.',
      )
    : new Problem('no-space', 'quota.store', "That is more than what is left of this store's quota.");
}

function fromHttpException(error: HttpException): Problem {
  if (error.getStatus() === 404) return new Problem('not-found', 'not-found', 'There is nothing at this address.');
  return new Problem(error.getStatus() < 500 ? 'invalid' : 'unexpected', 'request.invalid', error.message);
}

// Classes 08 (connection) and 57P (operator intervention) of PostgreSQL's codes, and what the sockets say.
function isDatabaseAway(code: string, error: unknown): boolean {
  if (/^(08...|57P0.|ECONNREFUSED|53300)$/.test(code)) return true;
  const message = error instanceof Error ? error.message : '';
  return (
    /Connection terminated|Client has encountered a connection error|timeout exceeded when trying to connect|not queryable|Driver not Connected/i.test(
      message,
    ) ||
    (code === 'ECONNRESET' && /pg|postgres/i.test(String((error as Error).stack)))
  );
}

/** Writes a problem as application/problem+json. Does nothing when the answer has already begun. */
export function sendProblem(problem: Problem, req: IncomingMessage, res: ServerResponse): void {
  if (res.headersSent) {
    res.destroy();
    return;
  }
  // A request that was refused leaves unread bytes on the connection, which can then not be used again.
  if (!req.complete) res.setHeader('Connection', 'close');
  // What a schema refuses is named by the field, and a stranger can call fields what they like.
  countRefusal(problem.kind === 'invalid' ? 'invalid' : problem.code);
  const status = PROBLEM_STATUS[problem.kind];
  const retry = problem.more['retryAfterSeconds'];
  const body: ProblemBody = {
    type: `/api/docs#problem-${problem.code}`,
    title: TITLES[problem.kind],
    status,
    detail: problem.message,
    code: problem.code,
    requestId: requestIdOf(req),
    ...problem.more,
  };
  const head = {
    'Content-Type': 'application/problem+json; charset=utf-8',
    'Cache-Control': 'no-store',
    ...(typeof retry === 'number' && { 'Retry-After': String(Math.ceil(retry)) }),
    ...problem.headers,
  };
  res.writeHead(status, head).end(JSON.stringify(body));
}

/** A listener outside the framework: what it throws is answered like everything else, and ends nothing. */
export function answering(
  work: (req: IncomingMessage, res: ServerResponse) => Promise<void>,
): (req: IncomingMessage, res: ServerResponse) => void {
  return (req, res) => {
    work(req, res).catch((error: unknown) => answerError(error, req, res));
  };
}

/** Answers what was thrown; what was not expected is told to the log. */
export function answerError(error: unknown, req: IncomingMessage, res: ServerResponse): void {
  const problem = asProblem(error);
  if (problem.kind === 'unexpected') log.error({ err: error, requestId: requestIdOf(req) }, 'unexpected error');
  sendProblem(problem, req, res);
}

@Catch()
export class ProblemFilter implements ExceptionFilter {
  catch(error: unknown, host: ArgumentsHost): void {
    answerError(error, host.switchToHttp().getRequest<Request>(), host.switchToHttp().getResponse<Response>());
  }
}
