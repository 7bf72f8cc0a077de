import type { AudienceAsked, ShareAudience } from '@quay/contract';
import { listedText, listingsOf, type AudienceKind, type Listed } from '@quay/core';
import type { EntityManager } from 'typeorm';

/** What has an audience. */
export interface HasAudience {
  kind: 'share' | 'intake';
  id: string;
}

/** Where the audiences of each kind are kept. */
const KEPT_IN = {
  share: { itself: 'share', recipients: 'share_recipient', members: 'share_member', id: 'share_id' },
  intake: { itself: 'intake', recipients: 'intake_recipient', members: 'intake_member', id: 'intake_id' },
} as const;

/** Whom a share or an intake is for, with everything that was said of it; canonical. */
export interface Meant {
  kind: AudienceKind;
  listed: Listed[];
  blocked: Listed[];
  members: AudienceAsked['members'];
}

/** Whom it is for, with names: groups that have ended and people who left are among them. */
export async function audienceOf(m: EntityManager, of: HasAudience, kind: AudienceKind): Promise<ShareAudience> {
  const { recipients, members: memberRows, id } = KEPT_IN[of.kind];
  const entries = await m.query<(Listed & { blocked: boolean })[]>(
    `SELECT blocked, kind, value FROM ${recipients} WHERE ${id} = $1 ORDER BY kind, value`,
    [of.id],
  );
  const members = await m.query<ShareAudience['members']>(
    `SELECT CASE WHEN s.person_id IS NULL THEN 'group' ELSE 'person' END AS kind,
            coalesce(s.person_id, s.group_id) AS id, coalesce(p.name, g.name) AS name
       FROM ${memberRows} s LEFT JOIN person p ON p.id = s.person_id LEFT JOIN people_group g ON g.id = s.group_id
      WHERE s.${id} = $1 ORDER BY s.person_id IS NOT NULL, 3`,
    [of.id],
  );
  const texts = (blocked: boolean) => entries.filter((e) => e.blocked === blocked).map(listedText);
  return { kind, listed: texts(false), blocked: texts(true), members };
}

/** Says whom it is for, instead of what was said before. */
export async function setAudience(tx: EntityManager, of: HasAudience, meant: Meant): Promise<void> {
  const { itself, recipients, members, id } = KEPT_IN[of.kind];
  await tx.query(`UPDATE ${itself} SET audience = $2 WHERE id = $1`, [of.id, meant.kind]);
  await tx.query(`DELETE FROM ${recipients} WHERE ${id} = $1`, [of.id]);
  await tx.query(`DELETE FROM ${members} WHERE ${id} = $1`, [of.id]);
  const rows = [
    ...meant.listed.map((entry) => ({ ...entry, blocked: false })),
    ...meant.blocked.map((entry) => ({ ...entry, blocked: true })),
  ];
  await tx.query(
    `INSERT INTO ${recipients} (${id}, blocked, kind, value)
     SELECT $1, * FROM unnest($2::boolean[], $3::text[], $4::text[])`,
    [of.id, rows.map((r) => r.blocked), rows.map((r) => r.kind), rows.map((r) => r.value)],
  );
  const ids = (kind: 'person' | 'group') => meant.members.filter((m) => m.kind === kind).map((m) => m.id);
  for (const kind of ['person', 'group'] as const)
    await tx.query(`INSERT INTO ${members} (${id}, ${kind}_id) SELECT $1, unnest($2::uuid[])`, [of.id, ids(kind)]);
}

/** What its lists, and that of the office, say of an address. @param address canonical */
export async function foundInLists(
  m: EntityManager,
  of: HasAudience,
  address: string,
): Promise<{ listed: boolean; blocked: boolean }> {
  const { recipients, id } = KEPT_IN[of.kind];
  const keys = listingsOf(address);
  const rows = await m.query<{ blocked: boolean }[]>(
    `WITH k AS (SELECT * FROM unnest($2::text[], $3::text[]) AS k (kind, value))
     SELECT r.blocked FROM ${recipients} r JOIN k ON k.kind = r.kind AND k.value = r.value WHERE r.${id} = $1
     UNION ALL SELECT true FROM office_block b JOIN k ON k.kind = b.kind AND k.value = b.value`,
    [of.id, keys.map((k) => k.kind), keys.map((k) => k.value)],
  );
  return { listed: rows.some((r) => !r.blocked), blocked: rows.some((r) => r.blocked) };
}

/** Whether somebody is meant by it, themselves or by a group. @param groupIds the groups that they are in */
export async function isMeant(
  m: EntityManager,
  of: HasAudience,
  personId: string,
  groupIds: readonly string[],
): Promise<boolean> {
  const { members, id } = KEPT_IN[of.kind];
  const rows = await m.query<unknown[]>(
    `SELECT 1 FROM ${members} WHERE ${id} = $1 AND (person_id = $2 OR group_id = ANY($3)) LIMIT 1`,
    [of.id, personId, groupIds],
  );
  return rows.length > 0;
}

/** Who somebody is to shares. */
export interface MeantPerson {
  personId: string;
  groupIds: readonly string[];
  /** Canonical; null: none that could be listed. */
  address: string | null;
  /**
   * Of a guest: whoever answers for them, and said what their address is. They could have said any, so that only what
   * is theirs already is told by it. Null: the office says so.
   */
  vouchedBy: string | null;
}

/** The newest shares that are for somebody and do not lie behind them. @returns ids */
export async function sharesFor(
  m: EntityManager,
  { personId, groupIds, address, vouchedBy }: MeantPerson,
  at: Date,
  limit: number,
): Promise<string[]> {
  const keys = address === null ? [] : listingsOf(address);
  const listed = (blocked: boolean) => `EXISTS (SELECT 1 FROM share_recipient r
      JOIN unnest($5::text[], $6::text[]) AS k (kind, value) ON k.kind = r.kind AND k.value = r.value
     WHERE r.share_id = s.id AND ${blocked ? '' : 'NOT '}r.blocked)`;
  const isKeptOut = `EXISTS (SELECT 1 FROM office_block b
      JOIN unnest($5::text[], $6::text[]) AS k (kind, value) ON k.kind = b.kind AND k.value = b.value)`;
  const rows = await m.query<{ id: string }[]>(
    `SELECT s.id FROM share s
      WHERE s.withdrawn_at IS NULL AND (s.closes_at IS NULL OR s.closes_at > $1) AND s.created_by <> $2
        AND ((s.audience = 'members'
              AND EXISTS (SELECT 1 FROM share_member sm WHERE sm.share_id = s.id AND (sm.person_id = $2 OR sm.group_id = ANY($3))))
          OR (s.audience = 'listed' AND ($7::uuid IS NULL OR s.created_by = $7) AND ${listed(false)} AND NOT ${listed(true)}
              AND NOT ${isKeptOut}))
      ORDER BY s.created_at DESC, s.id DESC LIMIT $4`,
    [at, personId, groupIds, limit, keys.map((k) => k.kind), keys.map((k) => k.value), vouchedBy],
  );
  return rows.map((r) => r.id);
}

/** To whom the newest shares of somebody went: those listed, and those who proved an address; the last first. */
export function earlierRecipients(
  m: EntityManager,
  personId: string,
  limit: number,
): Promise<(Listed & { at: Date })[]> {
  return m.query(
    `WITH mine AS (SELECT id, created_at FROM share WHERE created_by = $1 ORDER BY created_at DESC, id DESC LIMIT 500)
     SELECT kind, value, max(at) AS at FROM (
       SELECT r.kind, r.value, mine.created_at AS at FROM share_recipient r JOIN mine ON mine.id = r.share_id
        WHERE NOT r.blocked
       UNION ALL
       SELECT 'address', v.recipient, v.began_at FROM visit v JOIN mine ON mine.id = v.share_id
        WHERE v.recipient IS NOT NULL
     ) met GROUP BY kind, value ORDER BY max(at) DESC, kind, value LIMIT $2`,
    [personId, limit],
  );
}

/** Others with a mail address whose account can be used, by name. */
export function peopleWithAddress(
  m: EntityManager,
  personId: string,
  at: Date,
  limit: number,
): Promise<{ name: string; email: string }[]> {
  return m.query(
    `SELECT name, email FROM person
      WHERE id <> $1 AND email <> '' AND disabled_at IS NULL AND (ends_at IS NULL OR ends_at > $2)
      ORDER BY name, id LIMIT $3`,
    [personId, at, limit],
  );
}

/** Whom no share of the office lets in by a code. */
export function officeBlock(m: EntityManager): Promise<Listed[]> {
  return m.query('SELECT kind, value FROM office_block ORDER BY kind, value');
}

export async function setOfficeBlock(tx: EntityManager, blocked: readonly Listed[]): Promise<void> {
  await tx.query('DELETE FROM office_block');
  await tx.query('INSERT INTO office_block (kind, value) SELECT * FROM unnest($1::text[], $2::text[])', [
    blocked.map((b) => b.kind),
    blocked.map((b) => b.value),
  ]);
}
