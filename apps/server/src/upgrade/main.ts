import 'reflect-metadata';
import { configFromEnvironment } from '../platform/config.js';
import { copyDatabase, dropDatabase, dumpDatabase, otherDatabase, prepareDatabase } from './databases.js';

/**
 * What ./quay upgrade has done to databases, as whom the server runs as: copy NAME, prepare NAME, drop NAME, dump FILE.
 * @returns the exit code
 */
async function main([verb = '', what = '']: string[]): Promise<number> {
  const { databaseUrl } = configFromEnvironment(process.env);
  const verbs: Record<string, () => Promise<void>> = {
    copy: () => copyDatabase(databaseUrl, what),
    prepare: () => prepareDatabase(otherDatabase(databaseUrl, what)),
    drop: () => dropDatabase(otherDatabase(databaseUrl, what)),
    dump: () => dumpDatabase(databaseUrl, what),
  };
  const work = verbs[verb];
  if (!work || what === '') throw new Error('copy, prepare, drop or dump, and a name');
  await work();
  return 0;
}

process.exitCode = await main(process.argv.slice(2)).catch((error: Error) => {
  console.error(error.message);
  return 1;
});
