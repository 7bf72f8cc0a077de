import type { About } from '@quay/contract';
import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import type { EntityManager } from 'typeorm';

const ROOT = resolve(import.meta.dirname, '../../../..');

interface Lock {
  version: string;
  packages: Record<string, { version?: string; license?: string; dev?: boolean; link?: boolean; name?: string }>;
}

/** What is shipped and with what it runs; the packages are those of the lock file that building alone does not need. */
export async function about(m: EntityManager): Promise<About> {
  const [lock, [database]] = await Promise.all([
    readFile(resolve(ROOT, 'package-lock.json'), 'utf8').then((text) => JSON.parse(text) as Lock),
    m.query<{ version: string; schema: string }[]>(
      `SELECT current_setting('server_version') AS version,
              (SELECT name FROM migrations ORDER BY timestamp DESC LIMIT 1) AS schema`,
    ),
  ]);
  const found = new Map<string, About['packages'][number]>();
  for (const [path, { version, license, dev, link, name }] of Object.entries(lock.packages)) {
    if (!path.includes('node_modules/') || dev || link || !version) continue;
    const called = name ?? (path.split('node_modules/').at(-1) as string);
    found.set(`${called} ${version}`, { name: called, version, licence: license ?? 'see the package' });
  }
  return {
    version: lock.version,
    release: process.env['QUAY_RELEASE'] ?? null,
    node: process.versions.node,
    database: database?.version ?? '',
    schema: database?.schema ?? '',
    packages: [...found.values()].sort((a, b) => (a.name < b.name ? -1 : 1)),
  };
}
