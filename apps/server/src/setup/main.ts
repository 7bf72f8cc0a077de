import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import { readFileSync } from 'node:fs';
import { DataSource } from 'typeorm';
import { AppModule } from '../app.module.js';
import { configFromEnvironment } from '../platform/config.js';
import { migrate } from '../platform/database/database.js';
import { Problem } from '../platform/problems/problem.js';
import { readAnswers } from './answers-file.js';
import { SetupService } from './setup.service.js';

/** Makes an office of a file of answers, without a browser. @returns the exit code */
async function main(path: string): Promise<number> {
  const read = readAnswers(readFileSync(path, 'utf8'));
  if ('faults' in read) {
    for (const { line, path: member, words } of read.faults)
      console.error(`${path}${line ? `, line ${line}` : ''}: ${member ? `${member}: ` : ''}${words}`);
    return 1;
  }
  const app = await NestFactory.createApplicationContext(AppModule.with(configFromEnvironment(process.env)), {
    logger: ['error', 'warn'],
    abortOnError: false,
  });
  try {
    await migrate(app.get(DataSource));
    const begun = await app.get(SetupService).makeOf(read.answers);
    if (begun) console.log(`${begun.office} has begun; ${read.answers.you.signInName} can sign in.`);
    else console.log('There is an office already. Nothing was changed.');
    return 0;
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    const fields = (error.more.errors ?? []).map(({ field, detail }) => `${field}: ${detail}`);
    for (const words of fields.length > 0 ? fields : [error.message]) console.error(`${path}: ${words}`);
    return 1;
  } finally {
    await app.close();
  }
}

process.exitCode = await main(process.argv[2] ?? '');
