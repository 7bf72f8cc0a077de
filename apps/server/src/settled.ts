import type { INestApplicationContext } from '@nestjs/common';
import { NestFactory } from '@nestjs/core';
import { DataSource } from 'typeorm';
import { AppModule, ENTITIES } from './app.module.js';
import { configFromEnvironment, type Config } from './platform/config.js';
import { dataSourceOptions, migrate } from './platform/database/database.js';
import { blobRootOf } from './platform/office.js';
import { Problem } from './platform/problems/problem.js';

/** Brings the database to this program's schema, and finds out there what the environment does not say. */
export async function settled(config: Config): Promise<Config> {
  const source = await connected(new DataSource(dataSourceOptions(config.databaseUrl, ENTITIES)));
  try {
    await migrate(source);
    return { ...config, blobRoot: (await blobRootOf(source.manager)) ?? config.blobRoot };
  } finally {
    await source.destroy();
  }
}

/** @throws when the database has not answered for ten seconds, or says at once that it will not */
async function connected(source: DataSource): Promise<DataSource> {
  for (let tries = 1; ; tries += 1) {
    try {
      return await source.initialize();
    } catch (error) {
      // Not there yet, or still putting itself right (57P03).
      const later = ['ECONNREFUSED', '57P03'].includes((error as NodeJS.ErrnoException).code ?? '');
      if (!later || tries === 20) throw error;
      await new Promise((resolve) => setTimeout(resolve, 500));
    }
  }
}

/**
 * Does something on the machine itself, beside servers or without one: with all of the application, and nothing that it
 * does by itself.
 * @returns what `work` does, as an exit code; 1 when it is refused, and says why
 */
export async function onTheMachine(work: (app: INestApplicationContext) => Promise<void>): Promise<number> {
  const config = await settled({ ...configFromEnvironment(process.env), serves: false });
  const app = await NestFactory.createApplicationContext(AppModule.with(config), {
    logger: ['error', 'warn'],
    abortOnError: false,
  });
  try {
    await work(app);
    return 0;
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    const fields = (error.more.errors ?? []).map(({ field, detail }) => `${field}: ${detail}`);
    for (const words of fields.length > 0 ? fields : [error.message]) console.error(words);
    return 1;
  } finally {
    await app.close();
  }
}
