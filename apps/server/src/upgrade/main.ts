import 'reflect-metadata';
import { configFromEnvironment } from '../platform/config.js';
import {
  copyDatabase,
  dropDatabase,
  dumpDatabase,
  isBegun,
  makeDatabase,
  otherDatabase,
  prepareDatabase,
  tidyDatabases,
} from './databases.js';

/**
 * What ./quay upgrade has done to databases, as whom the server runs as: copy NAME, prepare NAME, drop NAME, dump FILE,
 * tidy NAME…; and `where` says how it is asked whether it is ready.
 * @returns the exit code
 */
async function main([verb = '', what = '', ...more]: string[]): Promise<number> {
  const { databaseUrl, port } = configFromEnvironment(process.env);
  const verbs: Record<string, () => Promise<void>> = {
    copy: () => copyDatabase(databaseUrl, what),
    prepare: () => prepareDatabase(otherDatabase(databaseUrl, what)),
    make: () => makeDatabase(databaseUrl, what),
    begun: async () => console.log((await isBegun(databaseUrl)) ? 'yes' : 'no'),
    drop: () => dropDatabase(otherDatabase(databaseUrl, what)),
    dump: () => dumpDatabase(databaseUrl, what),
    tidy: () => tidyDatabases(databaseUrl, [what, ...more]),
    where: () => Promise.resolve(console.log(`http://127.0.0.1:${port}/readyz`)),
  };
  const work = verbs[verb];
  if (!work || (what === '' && !['where', 'begun'].includes(verb)))
    throw new Error('copy, prepare, make, drop, dump or tidy, and a name; or where, begun');
  await work();
  return 0;
}

process.exitCode = await main(process.argv.slice(2)).catch((error: Error) => {
  console.error(error.message);
  return 1;
});
