import type { INestApplication } from '@nestjs/common';
import { APP_PAGES } from '@quay/contract';
import express, { type NextFunction, type Request, type Response } from 'express';
import { MOST_QUESTIONS } from '@quay/core';
import helmet from 'helmet';
import { existsSync } from 'node:fs';
import type { IncomingMessage, RequestListener, Server } from 'node:http';
import { join } from 'node:path';
import { BoundedBodies } from './platform/bodies.js';
import { noteClients } from './platform/client-address.js';
import type { Config } from './platform/config.js';
import { requestLog } from './platform/log/request-log.js';
import { asProblem, ProblemFilter, sendProblem } from './platform/problems/problem.filter.js';
import { pageHeaders } from './platform/page-headers.js';
import { Problem } from './platform/problems/problem.js';
import { setupGate } from './setup/gate.js';
import { SetupService } from './setup/setup.service.js';
import { DownloadService } from './transfers/download.service.js';
import { ResumableService } from './transfers/resumable.service.js';
import { visitorFilePath } from './visits/file-path.js';
import { VisitsService } from './visits/visits.service.js';

const JSON_LIMIT = '256kb';

/** What stands before and behind the capabilities: headers, limits, logs, the built web application, the API's page. */
export function configureApp(app: INestApplication, config: Config): void {
  const http = app.getHttpAdapter().getInstance() as express.Express;
  http.set('etag', false);
  http.set('query parser', 'simple');
  http.disable('x-powered-by');
  // Only the word of proxies that were named counts (X-Forwarded-For, X-Forwarded-Proto).
  http.set('trust proxy', config.reach.trustedProxies);
  takeShortWays(app, noteClients(config.reach.trustedProxies), new BoundedBodies(config.pace));
  app.use(requestLog);
  app.use(neverKept);
  app.use(securityHeaders());
  app.use(sameOriginOnly);
  const json = express.json({ limit: JSON_LIMIT, type: 'application/json' });
  // The body of a PUT is a file, whatever its type says.
  app.use((req: Request, res: Response, next: NextFunction) =>
    req.method === 'PUT' && /\/(files|batch)\/?$/i.test(req.path) ? next() : json(req, res, next),
  );
  // The one form that a browser sends by itself.
  app.use(/^\/s\/[^/]+\/plain$/, express.urlencoded({ limit: '8kb', extended: false, parameterLimit: 5 }));
  // Answers to every question, in whatever script.
  const answers = express.urlencoded({ limit: '64kb', extended: false, parameterLimit: MOST_QUESTIONS + 5 });
  app.use(/^\/h\/[^/]+\/plain(\/(take-back|hand-in))?$/, answers);
  app.use(app.get(ResumableService).handler());
  app.useGlobalFilters(new ProblemFilter());
  documentApi(app);
  if (config.webRoot && existsSync(config.webRoot)) serveWeb(app, http, config.webRoot);
  app.use((error: unknown, req: Request, res: Response, _next: NextFunction) =>
    sendProblem(asProblem(error), req, res),
  );
}

/** Puts the short ways before the framework: what they do not take goes on to it. */
function takeShortWays(app: INestApplication, note: (req: IncomingMessage) => void, bodies: BoundedBodies): void {
  const server = app.getHttpServer() as Server;
  const listeners = server.listeners('request') as RequestListener[];
  server.removeAllListeners('request');
  const framework: RequestListener = (req, res) => {
    for (const listener of listeners) listener.call(server, req, res);
  };
  const short = visitorFilePath(app.get(VisitsService), app.get(DownloadService), framework);
  const gate = setupGate(app.get(SetupService), short as RequestListener, framework);
  server.on('request', (req, res) => {
    note(req);
    if (bodies.admit(req, res)) gate(req, res);
  });
}

/**
 * What the server answers is of this moment, and is kept by nobody on the way; pages, pictures and files say otherwise.
 */
function neverKept(_req: Request, res: Response, next: NextFunction): void {
  res.setHeader('Cache-Control', 'no-store');
  next();
}

/** The visitor's page as whoever publishes sees it is shown within a page of ours. */
const FRAMED = /^\/api\/visitor-page$/;

function securityHeaders() {
  const strict = pageHeaders(["'none'"]);
  const framed = pageHeaders(["'self'"]);
  // The API's page brings styles of its own inside the document.
  const forDocs = helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'"],
        styleSrc: ["'self'", "'unsafe-inline'"],
        imgSrc: ["'self'", 'data:'],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        frameAncestors: ["'none'"],
        baseUri: ["'none'"],
      },
    },
    strictTransportSecurity: false,
  });
  return (req: Request, res: Response, next: NextFunction) => {
    const headers = FRAMED.test(req.path) ? framed : strict;
    (req.path.startsWith('/api/docs') ? forDocs : headers)(req, res, next);
  };
}

/** A change that another site's page asks for is refused, whatever cookies came with it. */
function sameOriginOnly(req: Request, res: Response, next: NextFunction): void {
  const safe = req.method === 'GET' || req.method === 'HEAD' || req.method === 'OPTIONS';
  const { origin } = req.headers;
  const site = req.headers['sec-fetch-site'];
  const foreign =
    (origin !== undefined && hostOf(origin) !== req.host) ||
    (site !== undefined && site !== 'same-origin' && site !== 'none');
  if (!safe && foreign)
    sendProblem(new Problem('forbidden', 'origin.foreign', 'This request came from another site.'), req, res);
  else next();
}

function hostOf(origin: string): string | null {
  try {
    return new URL(origin).host;
  } catch {
    return null;
  }
}

/** The page of the API, which is made when it is first asked for. */
function documentApi(app: INestApplication): void {
  let made: Promise<RequestListener> | null = null;
  app.use((req: Request, res: Response, next: NextFunction) => {
    if (!/^\/api\/docs(-json|-yaml)?(\/|$)/i.test(req.path)) return next();
    made ??= import('./platform/api-docs.js').then(({ apiDocs }) => apiDocs(app));
    made.then(
      (page) => page(req, res),
      (error: unknown) => {
        made = null;
        next(error);
      },
    );
  });
}

/**
 * The built pages: hashed assets for ever, documents never without asking. Places of the application are its own
 * routes.
 */
function serveWeb(app: INestApplication, http: express.Express, webRoot: string): void {
  app.use(
    '/assets',
    express.static(join(webRoot, 'assets'), { immutable: true, maxAge: '1y', index: false, fallthrough: false }),
  );
  const files = express.static(webRoot, { index: false, cacheControl: true, maxAge: 0, extensions: [] });
  // No file can be where the API and the shares answer: the disk is not asked for each of their requests.
  app.use((req: Request, res: Response, next: NextFunction) =>
    /^\/(api|s)\//i.test(req.path) ? next() : files(req, res, next),
  );
  const page = (_req: Request, res: Response) => {
    res.setHeader('Cache-Control', 'no-cache');
    res.sendFile(join(webRoot, 'index.html'));
  };
  for (const path of APP_PAGES) http.get(path, page);
}
