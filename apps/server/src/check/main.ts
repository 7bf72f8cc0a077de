import 'reflect-metadata';
import { DataSource } from 'typeorm';
import { ENTITIES } from '../app.module.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { configFromEnvironment } from '../platform/config.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { blobRootOf } from '../platform/office.js';
import { checkInvariants } from './invariants.js';

const config = configFromEnvironment(process.env);
const source = await new DataSource(dataSourceOptions(config.databaseUrl, ENTITIES)).initialize();
const { violations, counts, strays } = await checkInvariants(
  source,
  new DiskBlobStore((await blobRootOf(source.manager)) ?? config.blobRoot),
  process.argv.includes('--deep'),
);
await source.destroy();
for (const { rule, what } of violations) console.log(`broken: ${rule} (${what})`);
if (strays > 0) console.log(`note: ${strays} blobs have no row yet or any more; the server removes them by itself`);
console.log(
  `${counts['files']} files, ${counts['versions']} versions, ${counts['blobs']} blobs, ${counts['ledger']} ledger entries: ${violations.length === 0 ? 'everything holds' : `${violations.length} broken`}`,
);
process.exitCode = violations.length === 0 ? 0 : 1;
