import { actBits, GENESIS_HASH, nameKey, verifyChain } from '@quay/core';
import type { DataSource } from 'typeorm';
import { bodyOf, LedgerEntry } from '../ledger/ledger.entity.js';
import { isSound } from '../platform/blobs/blob-keeper.js';
import type { BlobStore } from '../platform/blobs/blob-store.js';

export interface Violation {
  rule: string;
  what: string;
}

/** A rule of the database as a query that finds what breaks it; each row's `what` names one. */
const QUERIES: [rule: string, sql: string][] = [
  [
    'a live file has a version of its own, and that is its newest',
    `SELECT n.id::text AS what FROM node n LEFT JOIN file_version v ON v.id = n.version_id
      WHERE n.kind = 'file' AND n.purged_at IS NULL
      AND (v.id IS NULL OR v.node_id <> n.id OR v.size_bytes <> n.size_bytes
      OR v.number <> (SELECT max(number) FROM file_version o WHERE o.node_id = n.id))`,
  ],
  [
    'a version has a blob of the same size',
    `SELECT v.id::text AS what FROM file_version v LEFT JOIN blob b ON b.sha256 = v.sha256
      WHERE b.sha256 IS NULL OR b.size_bytes <> v.size_bytes`,
  ],
  [
    'what was removed for good has no versions left',
    `SELECT n.id::text AS what FROM node n JOIN file_version v ON v.node_id = n.id WHERE n.purged_at IS NOT NULL`,
  ],
  [
    'a parent is a folder, of the same store but for what was removed for good',
    `SELECT n.id::text AS what FROM node n JOIN node p ON p.id = n.parent_id
      WHERE p.kind <> 'folder' OR (n.purged_at IS NULL AND p.store_id <> n.store_id)`,
  ],
  [
    'every item can be reached from its store',
    `WITH RECURSIVE down AS (SELECT id FROM node WHERE parent_id IS NULL UNION SELECT n.id FROM down
      JOIN node n ON n.parent_id = down.id) SELECT n.id::text AS what FROM node n WHERE NOT EXISTS (SELECT 1 FROM down
      WHERE down.id = n.id)`,
  ],
  [
    'a store counts each of its blobs once, with all references',
    `SELECT coalesce(c.store_id, b.store_id)::text || ' ' || encode(coalesce(c.sha256, b.sha256), 'hex') AS what
      FROM (SELECT n.store_id, v.sha256, count(*) AS refs FROM file_version v JOIN node n ON n.id = v.node_id
      GROUP BY 1, 2) c FULL JOIN store_blob b ON b.store_id = c.store_id AND b.sha256 = c.sha256
      WHERE c.refs IS DISTINCT FROM b.refs`,
  ],
  [
    'a store uses what its blobs take',
    `SELECT s.name AS what FROM store s
      WHERE s.used_bytes <> (SELECT coalesce(sum(size_bytes), 0) FROM store_blob b WHERE b.store_id = s.id)`,
  ],
  [
    'a store counts all its versions',
    `SELECT s.name AS what FROM store s WHERE (s.versions, s.version_bytes) <>
       (SELECT coalesce(sum(refs), 0), coalesce(sum(refs * size_bytes), 0) FROM store_blob b WHERE b.store_id = s.id)`,
  ],
  [
    'a person uses what they brought',
    `SELECT p.name AS what FROM person p
      WHERE p.used_bytes <> (SELECT coalesce(sum(size_bytes), 0) FROM store_blob b WHERE b.person_id = p.id)`,
  ],
  [
    "the present end of an item's past is how it is",
    `SELECT n.id::text AS what FROM node n LEFT JOIN node_past t ON t.node_id = n.id AND t.until IS NULL
      WHERE n.purged_at IS NULL
      AND (t.id IS NULL OR (t.parent_id, t.name, t.version_id, t.trashed, t.inherits,
      t.others_rule) IS DISTINCT FROM (n.parent_id, n.name, n.version_id, n.trashed_at IS NOT NULL, n.inherits,
      n.others_rule))`,
  ],
  [
    'the past of an item has no gaps and does not overlap',
    `SELECT node_id::text AS what
      FROM (SELECT node_id, until, lead(since) OVER (PARTITION BY node_id ORDER BY since, id) AS next
      FROM node_past) t WHERE next IS NOT NULL AND until IS DISTINCT FROM next`,
  ],
  [
    'what was removed for good is not in the present',
    `SELECT n.id::text AS what FROM node n JOIN node_past t ON t.node_id = n.id AND t.until IS NULL
      WHERE n.purged_at IS NOT NULL`,
  ],
  [
    'a folder has the nearest root at or above it',
    // Of each folder by itself: it is its own root, or has that of the folder it lies in.
    `SELECT n.id::text AS what FROM node n LEFT JOIN folder_access a ON a.folder_id = n.id
       LEFT JOIN access_root r ON r.id = a.root LEFT JOIN folder_access above ON above.folder_id = n.parent_id
      WHERE n.kind = 'folder' AND CASE
        WHEN n.parent_id IS NULL OR NOT n.inherits OR n.others_rule IS NOT NULL
          OR EXISTS (SELECT 1 FROM access_grant g WHERE g.node_id = n.id AND g.ended_at IS NULL)
            THEN r.folder_id IS DISTINCT FROM n.id
        ELSE a.root IS NULL OR a.root IS DISTINCT FROM above.root END`,
  ],
  [
    'a root is one, and lies where it says',
    `SELECT r.folder_id::text AS what FROM access_root r JOIN node n ON n.id = r.folder_id
      WHERE NOT access_is_root(r.folder_id) OR r.lies_in IS DISTINCT FROM n.parent_id`,
  ],
  [
    'a folder weighs what is in it',
    `WITH RECURSIVE came AS (
       SELECT parent_id AS id, false AS walked, CASE WHEN litter THEN 0 ELSE 1 END AS files,
         CASE WHEN litter THEN 0 ELSE size_bytes END AS bytes,
              CASE WHEN litter THEN 1 ELSE 0 END AS litter_files,
                CASE WHEN litter THEN size_bytes ELSE 0 END AS litter_bytes
         FROM node WHERE kind = 'file' AND trashed_at IS NULL
       UNION ALL SELECT folder_id, true, files, bytes, litter_files, litter_bytes FROM weight_change
     ), up AS (
       SELECT id, walked, sum(files) AS files, sum(bytes) AS bytes, sum(litter_files) AS litter_files,
         sum(litter_bytes) AS litter_bytes FROM came GROUP BY id, walked
       UNION ALL
       SELECT f.parent_id, up.walked, CASE WHEN f.litter THEN 0 ELSE up.files END,
         CASE WHEN f.litter THEN 0 ELSE up.bytes END,
              up.litter_files + CASE WHEN f.litter THEN up.files ELSE 0 END,
                up.litter_bytes + CASE WHEN f.litter THEN up.bytes ELSE 0 END
         FROM up JOIN node f ON f.id = up.id WHERE f.trashed_at IS NULL AND f.parent_id IS NOT NULL
     ), said AS (
       SELECT folder_id AS id, files, bytes, litter_files, litter_bytes FROM folder_weight
       UNION ALL SELECT id, files, bytes, litter_files, litter_bytes FROM up WHERE walked
       UNION ALL SELECT id, -files, -bytes, -litter_files, -litter_bytes FROM up WHERE NOT walked
     ) SELECT n.id::text || ' ' || n.name AS what FROM said JOIN node n ON n.id = said.id GROUP BY n.id, n.name
        HAVING (sum(said.files), sum(said.bytes), sum(said.litter_files), sum(said.litter_bytes)) <> (0, 0, 0, 0)`,
  ],
  [
    "the present end of a person's past is how they are",
    `SELECT p.name AS what FROM person p LEFT JOIN person_past t ON t.person_id = p.id AND t.until IS NULL
      WHERE (t.role, t.usable) IS DISTINCT FROM (p.role, p.disabled_at IS NULL)`,
  ],
  [
    'whoever has a set of duties has its duties',
    `SELECT p.name AS what FROM person p JOIN duty_set d ON d.id = p.duty_set_id
      WHERE NOT (p.duties @> d.duties AND p.duties <@ d.duties)`,
  ],
  [
    "a home's owner is remembered",
    `SELECT s.name AS what FROM store s LEFT JOIN home_owner o ON o.store_id = s.id AND o.until IS NULL
      WHERE o.person_id IS DISTINCT FROM s.owner_id`,
  ],
  [
    'an upload that has ended refers to a file',
    `SELECT u.id::text AS what FROM upload u
      WHERE u.answer IS NOT NULL AND NOT EXISTS (SELECT 1 FROM node n WHERE n.id = (u.answer->>'id')::uuid)`,
  ],
  [
    'what was removed for good is not shown',
    `SELECT id::text AS what FROM node WHERE purged_at IS NOT NULL AND trashed_at IS NULL`,
  ],
  [
    'a share counts every visit that it served',
    `SELECT s.id::text AS what FROM share s
      WHERE s.visits_used < (SELECT count(*) FROM visit v WHERE v.share_id = s.id)`,
  ],
  [
    'where the items of a share lie, and what stands against it, is known',
    `WITH RECURSIVE up AS (
       SELECT share_id, node_id, node_id AS above_id FROM share_item
       UNION ALL SELECT up.share_id, up.node_id, n.parent_id FROM up JOIN node n ON n.id = up.above_id
         WHERE n.parent_id IS NOT NULL
     ), lies AS (
       SELECT 'lies in' AS how, share_id, above_id AS id FROM up
       UNION SELECT 'gone', up.share_id, n.id FROM up JOIN node n ON n.id = up.above_id WHERE n.trashed_at IS NOT NULL
       UNION SELECT 'home', i.share_id, s.owner_id FROM share_item i JOIN node n ON n.id = i.node_id
         JOIN store s ON s.id = n.store_id
              WHERE s.owner_id IS NOT NULL
     ), said AS (
       SELECT 'lies in' AS how, share_id, above_id AS id FROM share_path
       UNION SELECT kind, share_id, cause FROM share_fault WHERE kind = 'gone'
       UNION SELECT 'home', share_id, owner_id FROM share_home
     ) SELECT share_id::text || ' ' || how AS what
       FROM ((TABLE lies EXCEPT TABLE said) UNION (TABLE said EXCEPT TABLE lies)) wrong`,
  ],
  [
    'what a publisher may not publish stands against the share',
    // Of those whose reach stands as of the present state: of others it is worked out before anybody is answered.
    `SELECT share_id::text AS what FROM (
       SELECT i.share_id, i.node_id, coalesce(a.acts, 0) & ${actBits(['publish'])} = 0 AS barred
         FROM share_item i JOIN share s ON s.id = i.share_id JOIN node n ON n.id = i.node_id
         JOIN access_reach_state r ON r.person_id = s.created_by JOIN access_state g ON g.generation = r.generation
         LEFT JOIN folder_access f ON f.folder_id = CASE n.kind WHEN 'folder' THEN n.id ELSE n.parent_id END
         LEFT JOIN access_reach a ON a.root = f.root AND a.person_id = s.created_by
     ) items LEFT JOIN share_fault USING (share_id)
      GROUP BY share_id, node_id, barred
        HAVING barred <> coalesce(bool_or(kind = 'barred' AND cause = node_id), false)`,
  ],
  [
    'room is set aside only for uploads that have not ended',
    `SELECT h.id::text AS what FROM room_held h JOIN upload u ON u.id = h.upload_id WHERE u.answer IS NOT NULL`,
  ],
  [
    'room is held for what was handed in as long as nothing is decided about it',
    `SELECT f.id::text AS what FROM deposit_file f LEFT JOIN room_held h ON h.deposit_file_id = f.id
      WHERE (h.id IS NOT NULL AND f.decided IS NOT NULL)
         OR (f.blob_sha256 IS NOT NULL AND f.size_bytes > 0 AND h.held_bytes IS DISTINCT FROM f.size_bytes)`,
  ],
  [
    'what waits in a tray is there, and what is decided is not',
    `SELECT id::text AS what FROM deposit_file
      WHERE sha256 IS NOT NULL AND (blob_sha256 IS NOT NULL) <> (decided IS NULL)`,
  ],
  [
    'a deposit counts its files',
    `SELECT d.id::text AS what FROM deposit d LEFT JOIN LATERAL (
       SELECT count(*) AS files, coalesce(sum(size_bytes), 0) AS bytes FROM deposit_file f WHERE f.deposit_id = d.id) c
         ON true WHERE (d.files, d.bytes) <> (c.files, c.bytes)`,
  ],
  [
    'an intake counts what was handed in and not refused',
    `SELECT i.id::text AS what FROM intake i WHERE i.taken_bytes <> (
       SELECT coalesce(sum(f.size_bytes), 0) FROM deposit d JOIN deposit_file f ON f.deposit_id = d.id
        WHERE d.intake_id = i.id AND f.decided IS DISTINCT FROM 'refused')`,
  ],
];

/** What must hold within the database alone; at most twenty that break each rule. */
export async function checkRows(db: DataSource): Promise<Violation[]> {
  const violations: Violation[] = [];
  for (const [rule, sql] of QUERIES)
    for (const { what } of await db.query<{ what: string }[]>(`${sql} LIMIT 20`)) violations.push({ rule, what });
  return violations;
}

/**
 * Checks everything that must hold between the tables, the ledger and the disk. Reads only.
 * @param deep also reads every blob and compares it with its name
 */
export async function checkInvariants(
  db: DataSource,
  blobs: BlobStore,
  deep: boolean,
): Promise<{ violations: Violation[]; counts: Record<string, number>; strays: number }> {
  const violations = await checkRows(db);
  for (const { id, name, name_key } of await db.query<{ id: string; name: string; name_key: string }[]>(
    'SELECT id, name, name_key FROM node',
  ))
    if (nameKey(name) !== name_key) violations.push({ rule: 'names are compared by their folded form', what: id });
  const chain = await checkLedger(db);
  if (chain.fault) violations.push({ rule: 'the ledger is one unbroken chain', what: chain.fault });
  const rows = await db.query<{ sha256: Buffer; size_bytes: string; damaged: boolean }[]>(
    'SELECT sha256, size_bytes, damaged_at IS NOT NULL AS damaged FROM blob',
  );
  const known = new Set<string>();
  for (const row of rows) {
    known.add(row.sha256.toString('hex'));
    // What is known to be damaged has been told already.
    const sound =
      row.damaged ||
      (deep
        ? await isSound(blobs, row.sha256, Number(row.size_bytes))
        : (await blobs.stat(row.sha256))?.sizeBytes === Number(row.size_bytes));
    // A row without bytes that nothing refers to is what a collector leaves when it dies between the two; it is
    // harmless.
    if (
      !sound &&
      (await db.query<unknown[]>('SELECT 1 FROM file_version WHERE sha256 = $1 LIMIT 1', [row.sha256])).length > 0
    )
      violations.push({ rule: 'a blob is there, whole, under its name', what: row.sha256.toString('hex') });
  }
  let strays = 0;
  for await (const name of blobs.names()) if (!known.has(name.toString('hex'))) strays += 1;
  const [count] = await db.query<{ files: string; versions: string }[]>(
    `SELECT (SELECT count(*) FROM node WHERE kind = 'file' AND purged_at IS NULL) AS files,
      (SELECT count(*) FROM file_version) AS versions`,
  );
  return {
    violations,
    counts: {
      files: Number(count?.files),
      versions: Number(count?.versions),
      blobs: rows.length,
      ledger: chain.entries,
    },
    strays,
  };
}

async function checkLedger(db: DataSource): Promise<{ entries: number; fault: string | null }> {
  let [prev, seq] = [GENESIS_HASH, 1];
  for (let after = 0; ;) {
    const batch = await db
      .getRepository(LedgerEntry)
      .createQueryBuilder('e')
      .where('e.seq > :after', { after })
      .orderBy('e.seq')
      .limit(1000)
      .getMany();
    if (batch.length === 0) return { entries: seq - 1, fault: null };
    const fault = verifyChain(
      batch.map((e) => ({ body: bodyOf(e), prevHash: e.prevHash, hash: e.hash })),
      prev,
      seq,
    );
    if (fault) return { entries: seq - 1, fault: JSON.stringify(fault) };
    prev = batch.at(-1)?.hash ?? prev;
    seq += batch.length;
    after = batch.at(-1)?.seq ?? after;
  }
}
