import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import type { NestExpressApplication } from '@nestjs/platform-express';
import { DataSource } from 'typeorm';
import { AppModule } from './app.module.js';
import { surviveRejections } from './platform/aside.js';
import { configFromEnvironment } from './platform/config.js';
import { migrate } from './platform/database/database.js';
import { log } from './platform/log/log.js';
import { configureApp } from './web.js';

async function main(): Promise<void> {
  surviveRejections();
  const config = configFromEnvironment(process.env);
  const app = await NestFactory.create<NestExpressApplication>(AppModule.with(config), {
    bodyParser: false,
    forceCloseConnections: true,
    logger: ['error', 'warn'],
    abortOnError: false,
  });
  await migrate(app.get(DataSource));
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
  process.send?.({ ready: true });
  // Started by another program: when that goes, in whatever way, so does this.
  process.on('disconnect', () => process.kill(process.pid, 'SIGTERM'));
  log.info({ host: config.host, port: config.port }, 'serving');
}

main().catch((error: NodeJS.ErrnoException & { port?: number }) => {
  const words = error.code === 'EADDRINUSE' ? `port ${error.port} is in use` : error.message;
  log.fatal({ err: error }, words);
  process.send?.({ failed: words });
  process.exit(1);
});
