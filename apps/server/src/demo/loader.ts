import { GENESIS_HASH, isLitter, LEVEL_WORDS, momentInWords, nameKey, SYSTEM_ACTOR, tokenFromBytes } from '@quay/core';
import { lookup } from 'mime-types';
import { randomBytes } from 'node:crypto';
import { Readable } from 'node:stream';
import type { DataSource, EntityManager } from 'typeorm';
import { chained, type NewEntry } from '../ledger/ledger.service.js';
import { LedgerEntry } from '../ledger/ledger.entity.js';
import type { BlobStore } from '../platform/blobs/blob-store.js';
import { changeLogo } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { seal, secretHash } from '../platform/seal.js';
import { loadHandOvers } from './hand-overs.js';
import { loadIntakes } from './intakes.js';
import type { Random } from './random.js';
import { officeLogo } from './sample-files.js';
import {
  CLOSED_FOLDERS,
  FOLDER_GRANTS,
  GROUPS,
  GROUPS_IN_GROUPS,
  PASSWORDS,
  DUTY_SETS,
  GROUP_MANAGERS,
  GUESTS,
  LEFT_GROUPS,
  PEOPLE,
  PINS,
  SHARES,
  STORES,
  TAGS,
  VISITOR_ADDRESSES,
  type DemoShare,
} from './scenario.js';
import { demoFiles, type DemoFile } from './tree.js';

const WORDS_TO_VISITORS =
  'Saltmarsh Survey Partnership, land and building surveys.\nSomething is missing? Write to whoever sent you this, or to office@saltmarsh.example.';
const DAY_MS = 86_400_000;
const ZONE = 'Europe/London';

interface Loading {
  tx: EntityManager;
  random: Random;
  now: number;
  blobs: BlobStore;
  sealingKey: Buffer;
  people: Map<string, string>;
  /** Node ids by path. */
  nodes: Map<string, string>;
  stores: Map<string, string>;
  ledger: { at: number; entry: NewEntry }[];
}

/** Fills an empty database with the demo office, as seen at `now`. */
export async function loadDemo(
  db: DataSource,
  blobs: BlobStore,
  sealingKey: Buffer,
  random: Random,
  now: number,
  address: URL,
  outside: DemoReach | null = null,
): Promise<{ files: number; shares: number; entries: number }> {
  return db.transaction(async (tx) => {
    const loading: Loading = {
      tx,
      random,
      now,
      blobs,
      sealingKey,
      people: new Map(),
      nodes: new Map(),
      stores: new Map(),
      ledger: [],
    };
    await tx.query('INSERT INTO office (name, zone, visitor_words) VALUES ($1, $2, $3)', [
      'Saltmarsh Survey',
      ZONE,
      WORDS_TO_VISITORS,
    ]);
    await changeLogo(tx, { png: await officeLogo(), version: 'demo' });
    await tx.query('INSERT INTO address (id, scheme, host, port, is_default) VALUES ($1, $2, $3, $4, true)', [
      random.uuid(now),
      address.protocol.replace(':', ''),
      address.hostname,
      address.port ? Number(address.port) : null,
    ]);
    if (outside) await loadReach(loading, outside);
    await loadPeople(loading);
    await loadGuests(loading);
    await loadStores(loading);
    const files = demoFiles(random, now);
    for (const file of files) await loadFile(loading, file);
    await loadAccess(loading);
    const passwordHash = await hashPassword('copper-lantern-swift-bay');
    for (const share of SHARES) await loadShare(loading, share, passwordHash);
    await loadLabels(loading);
    await loadUse(loading);
    everyday(loading);
    await loadHandOvers(loading);
    await loadIntakes(loading, passwordHash);
    return { files: files.length, shares: SHARES.length, entries: await writeLedger(loading) };
  });
}

/**
 * The way in that outsiders use, and the key of the name servers. What it was set up with is done by the server itself.
 */
export interface DemoReach {
  address: URL;
  updateSecret: string;
}

async function loadReach(l: Loading, { address, updateSecret }: DemoReach): Promise<void> {
  await l.tx.query(`UPDATE address SET created_at = $1`, [new Date(l.now - 118 * DAY_MS)]);
  await l.tx.query(
    `INSERT INTO address (id, scheme, host, port, is_default, way_in, uses, created_at)
      VALUES ($1, 'https', $2, NULL, false, 'mapping', 'sign-in', $3)`,
    [l.random.uuid(l.now), address.hostname, new Date(l.now - 100 * DAY_MS)],
  );
  for (const [network, server] of [
    ['public', '203.0.113.53'],
    ['office', '192.168.20.1'],
    ['guest', '192.168.40.1'],
  ]) {
    await l.tx.query(
      'INSERT INTO name_server (network, address, port, zone, key_name, secret_sealed) VALUES ($1, $2, 53, $3, $4, $5)',
      [
        network,
        server,
        address.hostname.split('.').slice(1).join('.'),
        'quay-update',
        seal(l.sealingKey, updateSecret),
      ],
    );
  }
}

async function loadPeople(l: Loading): Promise<void> {
  const groups = new Map<string, string>();
  for (const name of GROUPS) {
    groups.set(name, l.random.uuid(l.now - 120 * DAY_MS));
    await l.tx.query('INSERT INTO people_group (id, name, since) VALUES ($1, $2, $3)', [
      groups.get(name),
      name,
      new Date(l.now - 120 * DAY_MS),
    ]);
  }
  for (const [inner, outer] of GROUPS_IN_GROUPS)
    await l.tx.query(
      `INSERT INTO membership (id, group_id, member_group_id, source, since) VALUES ($1, $2, $3, 'hand', $4)`,
      [l.random.uuid(l.now - 120 * DAY_MS), groups.get(outer), groups.get(inner), new Date(l.now - 120 * DAY_MS)],
    );
  for (const person of PEOPLE) {
    const id = l.random.uuid(l.now - 120 * DAY_MS);
    l.people.set(person.key, id);
    // Those without a demo password cannot sign in: theirs is random and told to nobody.
    const hash = await hashPassword(PASSWORDS[person.key] ?? randomBytes(24).toString('hex'));
    await l.tx.query(
      // A second factor was offered to all, and declined: the demo is entered with a password alone.
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, factor_declined_at,
                           seen_at)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $8, $9)`,
      [
        id,
        person.key,
        `${person.key}@saltmarsh.example`,
        person.name,
        person.initials,
        person.role,
        hash,
        new Date(l.now - 120 * DAY_MS),
        new Date(l.now - (PEOPLE.indexOf(person) * 0.31 + 0.05) * DAY_MS),
      ],
    );
    for (const group of person.groups)
      await l.tx.query(
        `INSERT INTO membership (id, group_id, person_id, source, since) VALUES ($1, $2, $3, 'hand', $4)`,
        [l.random.uuid(l.now - 120 * DAY_MS), groups.get(group), id, new Date(l.now - 120 * DAY_MS)],
      );
  }
  await loadDutySets(l);
  for (const [person, group, since, left] of LEFT_GROUPS)
    await l.tx.query(
      `INSERT INTO membership (id, group_id, person_id, source, since, ended_at) VALUES ($1, $2, $3, 'hand', $4, $5)`,
      [
        ...[l.random.uuid(l.now), groups.get(group), l.people.get(person)],
        ...[since, left].map((days) => new Date(l.now + days * DAY_MS)),
      ],
    );
  for (const [group, person] of GROUP_MANAGERS)
    await l.tx.query('INSERT INTO group_manager (group_id, person_id, since) VALUES ($1, $2, $3)', [
      ...[groups.get(group), l.people.get(person), new Date(l.now - 90 * DAY_MS)],
    ]);
  for (const store of STORES) {
    await addStore(l, 'common', store.name, null);
    for (const [group, level] of store.grants)
      await l.tx.query(
        `INSERT INTO access_grant (id, node_id, subject_kind, group_id, level, since, granted_by)
          VALUES ($1, $2, 'group', $3, $4, $5, $6)`,
        [
          l.random.uuid(l.now),
          l.nodes.get(store.name),
          groups.get(group),
          level,
          new Date(l.now - 100 * DAY_MS),
          l.people.get('iris'),
        ],
      );
  }
}

async function loadDutySets(l: Loading): Promise<void> {
  for (const { name, duties, people } of DUTY_SETS) {
    const id = l.random.uuid(l.now - 110 * DAY_MS);
    await l.tx.query('INSERT INTO duty_set (id, name, duties, created_at) VALUES ($1, $2, $3, $4)', [
      ...[id, name, duties, new Date(l.now - 110 * DAY_MS)],
    ]);
    await l.tx.query('UPDATE person SET duties = $2, duty_set_id = $1 WHERE id = ANY($3)', [
      ...[id, duties, people.map((key) => l.people.get(key))],
    ]);
  }
}

/** People from outside. They have no place of their own, and no demo password. */
async function loadGuests(l: Loading): Promise<void> {
  for (const guest of GUESTS) {
    const at = (days: number | null) => (days === null ? null : new Date(l.now + days * DAY_MS));
    const id = l.random.uuid(l.now + guest.made * DAY_MS);
    l.people.set(guest.key, id);
    await l.tx.query(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, invited_at, seen_at,
                           sponsor_id, ends_at, quiet_days)
        VALUES ($1, $2, $3, $4, $5, 'guest', $6, $7, $8, $9, $10, $11, $12)`,
      [
        ...[id, guest.key, guest.email, guest.name, guest.initials],
        ...[
          await hashPassword(randomBytes(24).toString('hex')),
          at(guest.made),
          guest.seen === null ? at(guest.made) : null,
        ],
        ...[at(guest.seen), l.people.get(guest.sponsor), at(guest.ends), guest.quietDays],
      ],
    );
    l.ledger.push({
      at: l.now + guest.made * DAY_MS,
      entry: { kind: 'guest.invited', actor: actor(l, guest.sponsor), detail: { name: guest.name } },
    });
  }
}

/** What was granted on folders, what has ended, and what takes nothing over. */
async function loadAccess(l: Loading): Promise<void> {
  const at = (days: number) => l.now + days * DAY_MS;
  const told = (when: number, kind: string, by: string, path: string, detail: Record<string, string | null>) =>
    l.ledger.push({
      at: when,
      entry: {
        kind,
        actor: actor(l, by),
        nodeId: l.nodes.get(path) as string,
        detail: { folder: path.slice(path.lastIndexOf('/') + 1), ...detail },
      },
    });
  for (const { path, to, level, by, since, until, ended } of FOLDER_GRANTS) {
    const group = typeof to === 'string' ? null : to.group;
    const person = typeof to === 'string' ? to : null;
    await remembersAt(l, at(since));
    await l.tx.query(
      `INSERT INTO access_grant (id, node_id, subject_kind, person_id, group_id, level, since, until, granted_by)
       VALUES ($1, $2, $3, $4, (SELECT id FROM people_group WHERE name = $5), $6, $7, $8, $9)`,
      [
        l.random.uuid(at(since)),
        l.nodes.get(path),
        group === null ? 'person' : 'group',
        person && l.people.get(person),
        group,
        level,
        new Date(at(since)),
        until === undefined ? null : new Date(at(until)),
        l.people.get(by),
      ],
    );
    const name = group ?? ([...PEOPLE, ...GUESTS].find((p) => p.key === person)?.name as string);
    const end = until === undefined ? null : momentInWords(at(until), at(since), ZONE);
    told(at(since), 'access.granted', by, path, { to: name, level: LEVEL_WORDS[level], until: end });
    if (ended === undefined) continue;
    await l.tx.query(
      'UPDATE access_grant SET ended_at = $3, ended_by = $4 WHERE node_id = $1 AND person_id = $2 AND ended_at IS NULL',
      [l.nodes.get(path), person && l.people.get(person), new Date(at(ended)), l.people.get(by)],
    );
    told(at(ended), 'access.ended', by, path, { to: name, level: LEVEL_WORDS[level] });
  }
  for (const [path, daysAgo, by] of CLOSED_FOLDERS) {
    await remembersAt(l, at(-daysAgo));
    await l.tx.query('UPDATE node SET inherits = false WHERE id = $1', [l.nodes.get(path)]);
    told(at(-daysAgo), 'access.closed', by, path, {});
  }
}

async function loadStores(l: Loading): Promise<void> {
  for (const person of PEOPLE) await addStore(l, 'home', person.name, person.key);
}

async function addStore(l: Loading, kind: 'home' | 'common', name: string, owner: string | null): Promise<string> {
  const at = l.now - 100 * DAY_MS;
  const [id, root] = [l.random.uuid(at), l.random.uuid(at)];
  await l.tx.query('INSERT INTO store (id, kind, name, owner_id, created_at) VALUES ($1, $2, $3, $4, $5)', [
    id,
    kind,
    name,
    owner && l.people.get(owner),
    new Date(at),
  ]);
  await l.tx.query(
    // Whoever may only add files sees and reads what the others brought, in the office's own stores.
    `INSERT INTO node (id, store_id, kind, name, name_key, created_at, changed_at, others_rule)
      VALUES ($1, $2, 'folder', $3, $4, $5, $5, $6)`,
    [root, id, name, nameKey(name), new Date(at), kind === 'common' ? 'read' : null],
  );
  const path = owner ? `home:${owner}` : name;
  l.nodes.set(path, root);
  l.stores.set(path, id);
  return id;
}

async function folderOf(l: Loading, path: string, by: string, at: number): Promise<string> {
  const known = l.nodes.get(path);
  if (known) {
    await l.tx.query('UPDATE node SET changed_at = greatest(changed_at, $2) WHERE id = $1', [known, new Date(at)]);
    return known;
  }
  const cut = path.lastIndexOf('/');
  const parent = await folderOf(l, path.slice(0, cut), by, at);
  const name = path.slice(cut + 1);
  const id = l.random.uuid(at);
  await l.tx.query(
    `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at, changed_by)
      VALUES ($1, $2, $3, 'folder', $4, $5, $6, $6, $7)`,
    [id, l.stores.get(path.split('/')[0] as string), parent, name, nameKey(name), new Date(at), l.people.get(by)],
  );
  l.nodes.set(path, id);
  l.ledger.push({
    at: at - 60_000,
    entry: { kind: 'folder.created', actor: actor(l, by), nodeId: id, detail: { name } },
  });
  return id;
}

async function loadFile(l: Loading, file: DemoFile): Promise<void> {
  const name = file.path.slice(file.path.lastIndexOf('/') + 1);
  const first = workTime(l, file.daysAgo);
  const folder = await folderOf(l, file.path.slice(0, file.path.lastIndexOf('/')), file.by, first);
  const id = l.random.uuid(first);
  l.nodes.set(file.path, id);
  let at = first;
  for (const [index, make] of file.versions.entries()) {
    const blob = await l.blobs.put(Readable.from([await make()]), null);
    await l.tx.query(
      'INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING',
      [blob.sha256, blob.sizeBytes, blob.crc32, new Date(at)],
    );
    const version = l.random.uuid(at);
    await remembersAt(l, at);
    if (index === 0) {
      await l.tx.query(
        `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, litter, size_bytes, media_type, version_id,
          created_at, changed_at, changed_by) VALUES ($1, $2, $3, 'file', $4, $5, $6, $7, $8, $9, $10, $10, $11)`,
        [
          id,
          l.stores.get(file.path.split('/')[0] as string),
          folder,
          name,
          nameKey(name),
          isLitter(name),
          blob.sizeBytes,
          lookup(name) || 'application/octet-stream',
          version,
          new Date(at),
          l.people.get(file.by),
        ],
      );
    } else
      await l.tx.query('UPDATE node SET size_bytes = $2, version_id = $3, changed_at = $4 WHERE id = $1', [
        id,
        blob.sizeBytes,
        version,
        new Date(at),
      ]);
    await l.tx.query(
      `INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at, created_by)
        VALUES ($1, $2, $3, $4, $5, $6, $6, $7)`,
      [version, id, index + 1, blob.sha256, blob.sizeBytes, new Date(at), l.people.get(file.by)],
    );
    l.ledger.push({
      at,
      entry: {
        kind: index ? 'file.versioned' : 'file.uploaded',
        actor: actor(l, file.by),
        nodeId: id,
        detail: { name, sizeBytes: blob.sizeBytes, sha256: blob.sha256.toString('hex'), version: index + 1 },
      },
    });
    at = Math.min(
      l.now - 600_000,
      at + (0.3 + l.random.next() * 0.4) * file.daysAgo * (DAY_MS / file.versions.length) * 0.5,
    );
  }
}

async function loadAudience(l: Loading, shareId: string, { listed = [], group }: DemoShare): Promise<void> {
  for (const entry of listed)
    await l.tx.query('INSERT INTO share_recipient (share_id, blocked, kind, value) VALUES ($1, false, $2, $3)', [
      shareId,
      entry.startsWith('*.') ? 'subdomains' : 'address',
      entry.replace(/^\*\./, ''),
    ]);
  if (group)
    await l.tx.query('INSERT INTO share_member (share_id, group_id) SELECT $1, id FROM people_group WHERE name = $2', [
      shareId,
      group,
    ]);
}

async function loadShare(l: Loading, share: DemoShare, passwordHash: string): Promise<void> {
  const made = minuteOf(l.now + share.made * DAY_MS - 120_000);
  const id = l.random.uuid(made);
  const token = tokenFromBytes(randomBytes(16));
  const opens = momentOf(l.now, share.opens, 9);
  const closes = momentOf(l.now, share.closes, 17);
  await l.tx.query(
    `INSERT INTO share (id, title, message, token_hash, token_sealed, address_id, password_hash, opens_at, closes_at,
      visit_limit, visits_used, withdrawn_at, created_at, created_by, audience, level)
     VALUES ($1, $2, $3, $4, $5, (SELECT id FROM address ORDER BY way_in = 'mapping' DESC, is_default DESC LIMIT 1),
       $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)`,
    [
      id,
      share.title,
      share.message ?? '',
      secretHash(token),
      seal(l.sealingKey, token),
      share.password ? passwordHash : null,
      opens,
      closes,
      share.limit ?? null,
      share.used,
      momentOf(l.now, share.withdrawn ?? null, 11),
      new Date(made),
      l.people.get(share.by),
      share.listed ? 'listed' : share.group ? 'members' : 'anyone',
      share.level ?? 'download',
    ],
  );
  await loadAudience(l, id, share);
  const nodeIds = share.items.map((path) => {
    return nodeAt(l, path);
  });
  for (const [position, nodeId] of nodeIds.entries())
    await l.tx.query('INSERT INTO share_item (share_id, node_id, position) VALUES ($1, $2, $3)', [
      id,
      nodeId,
      position,
    ]);
  const tell = (at: number, kind: string, by: NewEntry['actor'], detail: NewEntry['detail']) =>
    l.ledger.push({ at, entry: { kind, actor: by, shareId: id, detail: { title: share.title, ...detail } } });
  tell(made, 'share.published', actor(l, share.by), {
    items: nodeIds.length,
    opensAt: opens?.toISOString() ?? null,
    closesAt: closes?.toISOString() ?? null,
    password: Boolean(share.password),
    weakPasswordMeant: false,
    visitLimit: share.limit ?? null,
  });
  await loadMoments(l, share, { id, made, opens, closes }, tell);
  if (share.withdrawn !== undefined) tell(l.now + share.withdrawn * DAY_MS, 'share.withdrawn', actor(l, share.by), {});
  await loadVisits(l, share, id, nodeIds[0] as string, tell);
  if (share.broken) await breakShare(l, share.items[0] as string, nodeIds[0] as string);
}

/** That a share opened or closed by itself was told at its moment. */
async function loadMoments(
  l: Loading,
  share: DemoShare,
  { id, made, opens, closes }: { id: string; made: number; opens: Date | null; closes: Date | null },
  tell: Tell,
): Promise<void> {
  const withdrawnAt = share.withdrawn === undefined ? Infinity : l.now + share.withdrawn * DAY_MS;
  for (const [what, moment] of Object.entries({ opens, closes })) {
    const at = moment?.getTime() ?? Infinity;
    if (at <= made || at > l.now || at > withdrawnAt) continue;
    await l.tx.query('INSERT INTO share_moment (share_id, what, at, told_at) VALUES ($1, $2, $3, $3)', [
      ...[id, what, moment],
    ]);
    tell(at, `share.${what}`, SYSTEM_ACTOR, {});
  }
}

/** Its first item went to the trash. */
async function breakShare(l: Loading, path: string, nodeId: string): Promise<void> {
  const at = l.now - (0.6 + l.random.next()) * DAY_MS;
  await remembersAt(l, at);
  await l.tx.query('UPDATE node SET trashed_at = $2, trashed_by = $3 WHERE id = $1', [
    ...[nodeId, new Date(at), l.people.get('rosa')],
  ]);
  const detail = { name: path.slice(path.lastIndexOf('/') + 1) };
  l.ledger.push({ at, entry: { kind: 'node.trashed', actor: actor(l, 'rosa'), nodeId, detail } });
}

/** The moment at which the database says that a change of an item was made. */
async function remembersAt(l: Loading, at: number): Promise<void> {
  await l.tx.query("SELECT set_config('quay.now', $1, true)", [new Date(at).toISOString()]);
}

/** The office's tags, and what iris has pinned. */
async function loadLabels(l: Loading): Promise<void> {
  for (const [name, colour, paths] of TAGS) {
    const id = l.random.uuid(l.now - 80 * DAY_MS);
    await l.tx.query('INSERT INTO tag (id, name, colour) VALUES ($1, $2, $3)', [id, name, colour]);
    for (const path of paths)
      await l.tx.query('INSERT INTO node_tag (node_id, tag_id) VALUES ($1, $2)', [nodeAt(l, path), id]);
  }
  for (const [days, path] of PINS)
    await l.tx.query('INSERT INTO pin (person_id, node_id, at) VALUES ($1, $2, $3)', [
      l.people.get('iris'),
      nodeAt(l, path),
      new Date(l.now - days * DAY_MS),
    ]);
}

/** What each store used on each day, as the samples of three months would have it. */
async function loadUse(l: Loading): Promise<void> {
  await l.tx.query(
    `WITH firsts AS (SELECT n.store_id, v.sha256, min(v.created_at) AS at, max(v.size_bytes) AS bytes
      FROM file_version v JOIN node n ON n.id = v.node_id GROUP BY 1, 2)
     INSERT INTO usage_sample (store_id, day, used_bytes)
     SELECT s.id, d.day::date,
       coalesce((SELECT sum(f.bytes) FROM firsts f WHERE f.store_id = s.id AND f.at <= d.day), 0)
       FROM store s, generate_series($1::timestamptz - interval '88 days', $1::timestamptz - interval '1 day',
       interval '1 day') AS d (day)`,
    [new Date(l.now)],
  );
}

function nodeAt(l: Loading, path: string): string {
  const node = l.nodes.get(path);
  if (!node) throw new Error(`the demo speaks of ${path}, which is not there`);
  return node;
}

type Tell = (at: number, kind: string, by: NewEntry['actor'], detail: NewEntry['detail']) => void;

async function loadVisits(l: Loading, share: DemoShare, shareId: string, nodeId: string, tell: Tell): Promise<void> {
  const from = l.now + Math.max(share.opens ?? share.made, share.made) * DAY_MS;
  const until = Math.min(
    l.now - 60_000,
    l.now + Math.min(share.closes ?? 0, share.withdrawn ?? 0, share.broken ? -1.7 : 0) * DAY_MS,
  );
  const times = Array.from({ length: share.used }, () => from + l.random.next() * Math.max(60_000, until - from)).sort(
    (a, b) => a - b,
  );
  for (const [index, at] of times.entries()) {
    const address = l.random.pick(VISITOR_ADDRESSES);
    const visit = l.random.uuid(at);
    const visitor = { kind: 'visitor' as const, id: null, name: `Visitor from ${address}` };
    await l.tx.query(
      `INSERT INTO visit (id, share_id, cookie_hash, began_at, from_address, agent, recipient)
        VALUES ($1, $2, $3, $4, $5, 'demo', $6)`,
      [visit, shareId, secretHash(visit), new Date(at), address, share.listed?.[0] ?? null],
    );
    if (share.password && l.random.next() < 0.15)
      tell(at - 30_000, 'share.refused', visitor, { reason: 'password', count: 1 });
    tell(at, share.limit === index + 1 ? 'share.last-visit' : 'share.visited', visitor, {
      visit: index + 1,
      from: address,
      who: share.listed?.[0] ?? null,
    });
    if (l.random.next() < 0.8) {
      await l.tx.query('INSERT INTO visit_file (visit_id, node_id, first_at) VALUES ($1, $2, $3)', [
        visit,
        nodeId,
        new Date(at + 40_000),
      ]);
      tell(
        at + 40_000,
        'share.downloaded',
        { kind: 'visitor', id: visit, name: 'A visitor' },
        { name: 'everything as one archive' },
      );
    }
  }
}

/** Three months of people signing in, on working days. */
function everyday(l: Loading): void {
  for (let day = 90; day > 0; day -= 1) {
    const weekday = new Date(l.now - day * DAY_MS).getUTCDay();
    if (weekday === 0 || weekday === 6) continue;
    for (const person of PEOPLE)
      if (l.random.next() < 0.35)
        l.ledger.push({
          at: workTime(l, day),
          entry: {
            kind: 'person.signed-in',
            actor: actor(l, person.key),
            detail: { from: `192.168.20.${20 + PEOPLE.indexOf(person)}` },
          },
        });
  }
}

async function writeLedger(l: Loading): Promise<number> {
  l.ledger.sort((a, b) => a.at - b.at);
  let prev = GENESIS_HASH;
  const entries = l.ledger.map(({ at, entry }, index) => {
    const link = chained(entry, new Date(Math.min(at, l.now)), index + 1, prev);
    prev = link.hash;
    return link;
  });
  for (let i = 0; i < entries.length; i += 500) await l.tx.insert(LedgerEntry, entries.slice(i, i + 500));
  return entries.length;
}

function actor(l: Loading, key: string): NewEntry['actor'] {
  return { kind: 'person', id: l.people.get(key) as string, name: PEOPLE.find((p) => p.key === key)?.name as string };
}

/** That many days ago, moved into working hours, never in the future. */
function workTime(l: Loading, daysAgo: number): number {
  const at = new Date(l.now - daysAgo * DAY_MS);
  at.setUTCHours(l.random.whole(8, 16), l.random.whole(0, 59), l.random.whole(0, 59));
  return Math.min(at.getTime(), l.now - l.random.whole(600, 7200) * 1000);
}

/** About that many days from now, on the hour that people choose, unless that would move it across now. */
function momentOf(now: number, days: number | null, hour: number): Date | null {
  if (days === null) return null;
  const exact = minuteOf(now + days * DAY_MS);
  const round = new Date(exact);
  round.setUTCHours(hour, 0, 0, 0);
  const crosses =
    Math.sign(round.getTime() - now) !== Math.sign(exact - now) || Math.abs(round.getTime() - now) < 3_600_000;
  return crosses ? new Date(exact) : round;
}

const minuteOf = (at: number): number => Math.floor(at / 60_000) * 60_000;
