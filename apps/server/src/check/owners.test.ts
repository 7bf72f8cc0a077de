import { readdirSync, readFileSync } from 'node:fs';
import { join, sep } from 'node:path';
import { expect, it } from 'vitest';

/**
 * Which capability writes which tables; others ask it. `access` also says who reaches the folders and homes of `stores`
 * (`node.inherits`, `node.others_rule`, `store.owner_id`); `transfers` records into the stores.
 */
const TABLES: Record<string, string[]> = {
  access: [
    'access_grant',
    'access_root',
    'folder_access',
    'access_reach',
    'access_reach_state',
    'people_group',
    'membership',
  ],
  people: ['person', 'session'],
  stores: [
    'node',
    'file_version',
    'store',
    'store_blob',
    'tag',
    'node_tag',
    'pin',
    'folder_weight',
    'weight_change',
    'usage_sample',
  ],
  transfers: ['upload', 'upload_batch'],
  shares: ['share', 'share_item', 'share_moment'],
  visits: ['visit', 'visit_file'],
  previews: ['preview'],
  adopt: ['task'],
  ledger: ['ledger_entry'],
  reach: [
    'address',
    'reach_check',
    'reach_nonce',
    'certificate',
    'renewal',
    'port_mapping',
    'acme_challenge',
    'name_server',
  ],
  platform: ['blob', 'attempt', 'mail', 'office'],
};
const ALSO: [capability: string, sql: RegExp][] = [
  ['access', /^UPDATE (node SET (inherits|others_rule) =|store SET owner_id =)/],
  // What is being uploaded goes with the folder that it was meant for.
  ['stores', /^DELETE FROM upload WHERE folder_id/],
];

const SRC = join(import.meta.dirname, '..');
const WRITES = /\b(?:INSERT INTO|UPDATE|DELETE FROM) (?!ONLY)([a-z_]+)\b(?: (?!SKIP|OF)[^`']{0,60})?/g;
/** The demo writes a whole office; check, fixtures and schemas stand outside. */
const OUTSIDE = ['demo', 'check', '_fixtures', join('platform', 'database')];

it('every table is written by one capability', () => {
  const owner = new Map(Object.entries(TABLES).flatMap(([by, tables]) => tables.map((t) => [t, by] as const)));
  const files = readdirSync(SRC, { recursive: true, encoding: 'utf8' }).filter(
    (f) => f.endsWith('.ts') && !f.endsWith('.test.ts') && !OUTSIDE.some((part) => f.startsWith(part + sep)),
  );
  let seen = 0;
  const foreign = files.flatMap((file) => {
    const capability = file.split(sep)[0] as string;
    return [...readFileSync(join(SRC, file), 'utf8').matchAll(WRITES)].flatMap(([sql, table]) => {
      const by = owner.get(table as string);
      if (by) seen += 1;
      const allowed =
        by === undefined || by === capability || ALSO.some(([c, what]) => c === capability && what.test(sql));
      return allowed ? [] : [`${file}: ${sql}`];
    });
  });
  expect(seen).toBeGreaterThan(60);
  expect(foreign).toEqual([]);
});
