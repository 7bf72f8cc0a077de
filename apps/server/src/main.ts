import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import type { NestExpressApplication } from '@nestjs/platform-express';
import cluster from 'node:cluster';
import { AppModule } from './app.module.js';
import { aside, surviveRejections } from './platform/aside.js';
import { configFromEnvironment, type Config } from './platform/config.js';
import { log } from './platform/log/log.js';
import { keepTelling, notify } from './platform/notify.js';
import { follow, lead } from './platform/processes.js';
import { settled } from './settled.js';
import { Restart } from './setup/restart.js';
import { SetupService } from './setup/setup.service.js';
import { configureApp } from './web.js';

async function serve(environment: Config): Promise<void> {
  const config = await settled(environment);
  const app = await NestFactory.create<NestExpressApplication>(AppModule.with(config), {
    bodyParser: false,
    forceCloseConnections: true,
    logger: ['error', 'warn'],
    abortOnError: false,
  });
  configureApp(app, config);
  app.enableShutdownHooks(['SIGINT', 'SIGTERM']);
  const server = (await app.listen(config.port, config.host)) as import('node:http').Server;
  // Large uploads take as long as they take; heads must still come promptly.
  server.requestTimeout = 0;
  server.headersTimeout = 20_000;
  // A connection on which nothing moves, not even the heartbeat of events.
  server.timeout = 300_000;
  // Longer than the minute that proxies and browsers commonly keep a connection for.
  server.keepAliveTimeout = 65_000;
  app.get(Restart).asked.subscribe(() => aside(beginAnew(app, environment), 'the server could not begin anew'));
  const setup = app.get(SetupService);
  // Of several processes one says the code.
  const speaks = (cluster.worker?.id ?? 1) === 1;
  if (speaks && !(await setup.begun())) await setup.announce((words) => process.stdout.write(`${words}\n`));
  log.info({ host: config.host, port: config.port }, 'serving');
}

async function beginAnew(app: NestExpressApplication, environment: Config): Promise<void> {
  await app.close();
  await serve(environment);
}

async function main(): Promise<void> {
  surviveRejections();
  const config = configFromEnvironment(process.env);
  if (config.processes > 1 && cluster.isPrimary) await lead(config.processes);
  else await serve(config);
  if (cluster.isWorker) follow();
  else tellServiceManager();
  process.send?.({ ready: true });
  // Started by another program: when that goes, in whatever way, so does this.
  process.on('disconnect', () => process.kill(process.pid, 'SIGTERM'));
}

function tellServiceManager(): void {
  notify('READY=1');
  keepTelling();
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => notify('STOPPING=1'));
}

main().catch((error: NodeJS.ErrnoException & { port?: number }) => {
  const words = error.code === 'EADDRINUSE' ? `port ${error.port} is in use` : error.message;
  log.fatal({ err: error }, words);
  if (!process.send) process.exit(1);
  process.send({ failed: words }, undefined, undefined, () => process.exit(1));
});
