import { readdirSync, readFileSync } from 'node:fs';
import { join, sep } from 'node:path';
import { expect, it } from 'vitest';

/**
 * Which capability writes which tables; others ask it, or read what is declared below. `access` also says who reaches the folders and homes of `stores`
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
    'group_manager',
  ],
  people: [
    'person',
    'person_past',
    'duty_set',
    'actor',
    'session',
    'second_factor',
    'recovery_code',
    'passkey',
    'passkey_challenge',
    'factor_browser',
    'password_link',
    'notice_waiting',
  ],
  stores: [
    'node',
    'node_past',
    'home_owner',
    'store_archived',
    'room_held',
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
  shares: [
    'share',
    'share_item',
    'share_moment',
    'share_path',
    'share_fault',
    'share_home',
    'share_frozen',
    'outgoing',
    'slip_template',
    'calendar_link',
    'office_block',
    'guardrail',
    'share_recipient',
    'share_member',
    'intake_recipient',
    'intake_member',
    'share_list_view',
  ],
  visits: ['visit', 'visit_file', 'share_code', 'intake_code', 'share_refusal', 'share_brought', 'marked_copy'],
  intakes: ['intake', 'intake_reminder', 'deposit', 'deposit_file', 'deposit_question'],
  'hand-over': ['hand_over', 'message_template', 'known_recipient', 'mail_returns'],
  previews: ['preview'],
  adopt: ['task'],
  backups: ['backup_place'],
  ledger: ['ledger_entry'],
  reach: [
    'address',
    'reach_check',
    'reach_nonce',
    'certificate',
    'certificate_order',
    'relay_invitation',
    'name_update',
    'lookout',
    'acme_account',
    'renewal',
    'port_mapping',
    'acme_challenge',
    'name_server',
  ],
  setup: ['setup'],
  accounts: ['leaving'],
  directory: ['directory', 'directory_entry', 'directory_run'],
  provider: ['identity_provider', 'provider_identity', 'provider_sign_in'],
  platform: [
    'blob',
    'attempt',
    'mail',
    'mail_enclosure',
    'mail_server',
    'text_gateway',
    'text_message',
    'office',
    'office_logo',
    'network_setting',
  ],
};
const ALSO: [capability: string, sql: RegExp][] = [
  ['access', /^UPDATE (node SET (inherits|others_rule) =|store SET owner_id =)/],
  // What is being uploaded goes with the folder that it was meant for.
  ['stores', /^DELETE FROM upload WHERE folder_id/],
  // In a database that was brought back, and that nobody serves yet.
  ['backups', /^UPDATE office SET blob_root = NULL/],
];

/**
 * What a capability shows of its tables to others, who may join them and read them, each with why it is not asked for
 * through a service: mostly because a list, a filter or a right is decided at every row, in one statement.
 */
const SHOWN: [table: string, readers: string[], why: string][] = [
  [
    'node',
    ['access', 'adopt', 'backups', 'intakes', 'previews', 'shares', 'transfers', 'visits'],
    'the tree that everything hangs on',
  ],
  ['node_past', ['access'], 'who could do what at a moment goes by how the tree lay'],
  [
    'office',
    ['backups', 'people', 'setup', 'shares', 'upgrade'],
    'whose backups they are; what is wanted of whoever holds a session; on which calendar rules count; whether outsiders are to get in, and one is there',
  ],
  [
    'store',
    ['access', 'adopt', 'backups', 'intakes', 'shares'],
    'its kind and owner decide about access; its name is shown',
  ],
  ['home_owner', ['access'], 'whose home it was at a moment'],
  ['store_archived', ['access'], 'whether it was archived at a moment'],
  [
    'file_version',
    ['adopt', 'backups', 'platform', 'previews', 'setup', 'shares', 'transfers', 'visits'],
    'which bytes a file has; bytes without a version go; whether there are files at all',
  ],
  [
    'person',
    [
      'access',
      'adopt',
      'backups',
      'directory',
      'hand-over',
      'intakes',
      'provider',
      'setup',
      'shares',
      'stores',
      'visits',
    ],
    'names beside what they did; whether anybody is there',
  ],
  ['deposit_file', ['backups', 'platform'], 'bytes that nothing refers to go; bytes that wait are copied'],
  ['intake', ['live', 'shares'], 'whose it is; what guardrails ask of each'],
  ['marked_copy', ['platform'], 'bytes that nothing refers to go'],
  ['second_factor', ['shares'], 'whether whoever publishes has one'],
  ['directory_entry', ['provider'], 'whether the directory signs somebody in already'],
  [
    'people_group',
    ['directory', 'shares'],
    'which groups there are beside those of the directory; whom shares are for',
  ],
  ['session', ['visits'], 'a visit of somebody signed in ends with it'],
  ['membership', ['directory', 'intakes'], 'whom the directory put into which group; who is asked by name'],
  ['intake_recipient', ['intakes'], 'who is asked by name'],
  ['intake_member', ['intakes'], 'who is asked by name'],
  ['person_past', ['access'], 'who had an account at a moment'],
  ['actor', ['stores', 'transfers', 'visits'], 'names beside what they brought'],
  ['blob', ['adopt', 'backups', 'previews', 'stores', 'visits'], 'sizes, and whether bytes are damaged'],
  ['folder_access', ['shares', 'stores'], 'weights leave out what somebody does not see; where links lead'],
  ['access_root', ['shares', 'stores'], 'weights leave out what somebody does not see; where links lead'],
  ['access_reach', ['stores'], 'weights leave out what somebody does not see'],
  ['preview', ['stores'], 'whether an item has a picture; words found in it'],
  ['outgoing', ['stores'], 'the room in it'],
  ['upload', ['stores', 'visits'], 'room that unfinished uploads take; what is still arriving'],
  ['share', ['hand-over', 'ledger', 'live', 'reach', 'setup', 'visits'], 'whose it is; whether it can still be opened'],
  ['share_item', ['visits'], 'what a share holds'],
  [
    'visit',
    ['hand-over', 'reach', 'shares'],
    'how often and when it was opened; whether somebody came in from outside',
  ],
  ['visit_file', ['shares'], 'what was taken'],
  ['share_refusal', ['shares'], 'who was refused'],
  ['address', ['intakes', 'platform', 'shares'], 'what links are built on'],
  ['reach_check', ['platform', 'shares'], 'whether an address was reached from outside'],
  ['backup_place', ['setup'], 'whether any backups are made'],
  ['mail', ['hand-over', 'health', 'work'], 'how sending ended'],
  ['text_message', ['hand-over', 'work'], 'how sending ended'],
];

const SRC = join(import.meta.dirname, '..');
const READS = /\b(?:FROM|JOIN) ([a-z_]+)\b/g;
const WRITES = /\b(?:INSERT INTO|UPDATE|DELETE FROM) (?!ONLY)([a-z_]+)\b(?: (?!SKIP|OF)[^`']{0,60})?/g;
/** The demo writes a whole office; check, fixtures and schemas stand outside. */
const OUTSIDE = ['demo', 'check', '_fixtures', join('platform', 'database')];

const owner = new Map(Object.entries(TABLES).flatMap(([by, tables]) => tables.map((t) => [t, by] as const)));

interface Found {
  file: string;
  capability: string;
  sql: string;
  table: string;
}

/** Where a pattern names a table that a capability owns. */
function findAll(pattern: RegExp): Found[] {
  const files = readdirSync(SRC, { recursive: true, encoding: 'utf8' }).filter(
    (f) => f.endsWith('.ts') && !f.endsWith('.test.ts') && !OUTSIDE.some((part) => f.startsWith(part + sep)),
  );
  return files.flatMap((file) =>
    [...readFileSync(join(SRC, file), 'utf8').matchAll(pattern)]
      .map(([sql, table]) => ({ file, capability: file.split(sep)[0] as string, sql, table: table as string }))
      .filter(({ table }) => owner.has(table)),
  );
}

it('every table is written by one capability', () => {
  const written = findAll(WRITES);
  const foreign = written.filter(
    ({ capability, sql, table }) =>
      owner.get(table) !== capability && !ALSO.some(([c, what]) => c === capability && what.test(sql)),
  );
  expect(written.length).toBeGreaterThan(60);
  expect(foreign).toEqual([]);
});

it('is read by others only as it is declared, and nothing is declared that nobody reads', () => {
  const read = findAll(READS).filter(({ capability, table }) => owner.get(table) !== capability);
  const declared = new Set(SHOWN.flatMap(([table, readers]) => readers.map((reader) => `${reader} reads ${table}`)));
  const found = new Set(read.map(({ capability, table }) => `${capability} reads ${table}`));
  expect([...found].filter((f) => !declared.has(f))).toEqual([]);
  expect([...declared].filter((d) => !found.has(d))).toEqual([]);
});
