import 'reflect-metadata';
import { randomUUID } from 'node:crypto';
import { dirname, join } from 'node:path';
import { DataSource } from 'typeorm';
import { ENTITIES } from '../app.module.js';
import { claimFolder } from '../backups/copying/layout.js';
import { insertPlace } from '../backups/places.queries.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { configFromEnvironment } from '../platform/config.js';
import { dataSourceOptions, migrate } from '../platform/database/database.js';
import { loadDemo } from './loader.js';
import { Random } from './random.js';

const SEED = 20_261_124;

/** The demo backs itself up, into a folder beside its files. */
async function backUpBeside(db: DataSource, folder: string): Promise<void> {
  const [office] = await db.query<{ uid: string }[]>('SELECT uid FROM office');
  await claimFolder(folder, office?.uid ?? '');
  const plan = { every: 'day', atMinute: 22 * 60 + 30, weekday: 7, rehearse: 'month', recipients: [] } as const;
  const kept = { days: 14, weeks: 8, months: 12 };
  await db.transaction((tx) => insertPlace(tx, randomUUID(), { ...plan, ...kept, folder, recipients: [] }, new Date()));
}

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
  await backUpBeside(source, process.env['QUAY_DEMO_BACKUPS'] ?? join(dirname(config.blobRoot), 'backups'));
  console.log(`Loaded ${loaded.files} files, ${loaded.shares} shares and ${loaded.entries} ledger entries.`);
}
// Fresh statistics, so that the first queries are planned for what is there.
await source.query('ANALYZE');
await source.destroy();
