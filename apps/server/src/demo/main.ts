import 'reflect-metadata';
import { DataSource } from 'typeorm';
import { ENTITIES } from '../app.module.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { configFromEnvironment } from '../platform/config.js';
import { dataSourceOptions, migrate } from '../platform/database/database.js';
import { loadDemo } from './loader.js';
import { Random } from './random.js';

const SEED = 20_261_124;

const config = configFromEnvironment(process.env);
const source = await new DataSource(dataSourceOptions(config.databaseUrl, ENTITIES)).initialize();
await migrate(source);
const [{ n }] = (await source.query('SELECT count(*)::int AS n FROM office')) as [{ n: number }];
// One transaction loads everything: if it broke off, nothing of it is there.
if (n === 0) {
  const at = process.env['QUAY_DEMO_AT'];
  const reach = process.env['QUAY_DEMO_REACH'];
  const loaded = await loadDemo(
    source,
    new DiskBlobStore(config.blobRoot),
    config.sealingKey,
    new Random(SEED),
    at ? Date.parse(at) : Date.now(),
    new URL(process.env['QUAY_ADDRESS'] ?? 'http://127.0.0.1:4180'),
    reach ? { address: new URL(reach), updateSecret: process.env['QUAY_DEMO_UPDATE_SECRET'] ?? '' } : null,
  );
  console.log(`Loaded ${loaded.files} files, ${loaded.shares} shares and ${loaded.entries} ledger entries.`);
}
// Fresh statistics, so that the first queries are planned for what is there.
await source.query('ANALYZE');
await source.destroy();
