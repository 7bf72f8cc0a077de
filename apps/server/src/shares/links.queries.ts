import type { EntityManager } from 'typeorm';
import { folderOf } from '../access/access.queries.js';

// What the ways in ask of shares: the links that are built on an address.

/** Whether the link of a share `s` can still be opened, if only by letting more visits in. */
export const MAY_STILL_OPEN = (at: string): string =>
  `(s.withdrawn_at IS NULL AND (s.closes_at IS NULL OR s.closes_at > ${at}))`;

export interface LinkOn {
  shareId: string;
  title: string;
  tokenSealed: Buffer;
  visits: number;
  /** From the home of somebody else. */
  closed: boolean;
}

/** Links that could still be opened and are built on an address, the newest first. */
export function linksOn(
  m: EntityManager,
  addressId: string,
  personId: string,
  at: Date,
  most: number,
): Promise<LinkOn[]> {
  return m.query(
    `SELECT s.id AS "shareId", s.title, s.token_sealed AS "tokenSealed",
            (SELECT count(*)::int FROM visit v WHERE v.share_id = s.id) AS visits,
            EXISTS (SELECT 1 FROM share_home h WHERE h.share_id = s.id AND h.owner_id <> $3) AS closed
       FROM share s WHERE s.address_id = $1 AND ${MAY_STILL_OPEN('$2')} ORDER BY s.created_at DESC LIMIT $4`,
    [addressId, at, personId, most],
  );
}

/** Builds links that could still be opened on another address. @returns how many */
export async function moveLinksTo(tx: EntityManager, fromId: string, toId: string, at: Date): Promise<number> {
  const [, count] = (await tx.query(
    `UPDATE share s SET address_id = $2 WHERE s.address_id = $1 AND ${MAY_STILL_OPEN('$3')}`,
    [fromId, toId, at],
  )) as [unknown, number];
  return count;
}

/** Links that can no longer be opened keep an address to be shown with: the default one. */
export async function leaveAddress(tx: EntityManager, addressId: string): Promise<void> {
  await tx.query('UPDATE share SET address_id = (SELECT id FROM address WHERE is_default) WHERE address_id = $1', [
    addressId,
  ]);
}

export function sharesOn(m: EntityManager, addressId: string): Promise<{ id: string }[]> {
  return m.query('SELECT id FROM share WHERE address_id = $1', [addressId]);
}

/** The folders, of those with facts of their own, from which something goes out by a link that is open. */
export async function foldersWithLinks(m: EntityManager, at: Date): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT DISTINCT r.folder_id AS id
       FROM share s JOIN share_item i ON i.share_id = s.id
      CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = i.node_id OFFSET 0) n
       JOIN folder_access f ON f.folder_id = ${folderOf('n')} JOIN access_root r ON r.id = f.root
      WHERE s.withdrawn_at IS NULL AND coalesce(s.closes_at, 'infinity') > $1 AND (s.opens_at IS NULL OR s.opens_at <= $1)
        AND (s.visit_limit IS NULL OR s.visits_used < s.visit_limit) AND s.barred_at IS NULL
        AND NOT EXISTS (SELECT 1 FROM share_fault x WHERE x.share_id = s.id)`,
    [at],
  );
  return new Set(rows.map((r) => r.id));
}
