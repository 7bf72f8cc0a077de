import type { HandedOver, HandOverChannel, ToldFacts } from '@quay/core';
import type { HandOverFinding, HandOverRow } from '@quay/contract';
import type { Addressee } from '@quay/core/recipients';
import type { EntityManager } from 'typeorm';

export interface HandOver {
  id: string;
  shareId: string;
  what: HandedOver;
  channel: HandOverChannel;
  recipient: string;
  name: string;
  sendingId: string | null;
  mailId: string | null;
  textId: string | null;
  sameWay: boolean;
  byId: string;
  at: Date;
  told: ToldFacts;
}

export type HandOverFound = Omit<HandOverRow, 'at' | 'openedAt' | 'outdated'> & {
  at: Date;
  openedAt: Date | null;
  told: ToldFacts;
};

/** A row `h` with what became of what was sent; of what is not known any more nothing is said. */
const SENT = `LEFT JOIN mail m ON m.id = h.mail_id LEFT JOIN text_message t ON t.id = h.text_id`;
const STATE = `coalesce(m.state, t.state, 'done')`;
const ANSWER = `coalesce(m.answer, t.answer, '')`;

/** What was handed over of a share, the last first. */
export function handOversOf(m: EntityManager, shareId: string, limit: number): Promise<HandOverFound[]> {
  return m.query(
    `SELECT h.id, h.at, p.name AS by, h.what, h.channel, h.recipient, h.recipient_name AS name, h.told,
            h.same_way AS "sameWay", h.settled_at IS NOT NULL AS settled, ${STATE} AS state, ${ANSWER} AS answer,
            coalesce(m.perhaps_twice, false) AS "perhapsTwice",
            (SELECT min(v.began_at) FROM visit v
              WHERE v.share_id = h.share_id AND v.recipient = h.recipient AND v.began_at >= h.at) AS "openedAt"
       FROM hand_over h JOIN person p ON p.id = h.by_id ${SENT}
      WHERE h.share_id = $1 ORDER BY h.at DESC, h.id DESC LIMIT $2`,
    [shareId, limit],
  );
}

/** By which ways something of a share went to these recipients; not what never arrived. */
export function waysTo(
  m: EntityManager,
  shareId: string,
  recipients: readonly string[],
): Promise<Pick<HandOver, 'what' | 'channel' | 'recipient'>[]> {
  return m.query(
    `SELECT DISTINCT h.what, h.channel, h.recipient FROM hand_over h ${SENT}
      WHERE h.share_id = $1 AND h.recipient = ANY($2) AND ${STATE} NOT IN ('refused', 'returned')`,
    [shareId, recipients],
  );
}

/** Those of a sending that have been written down already, and of which share it is; null: it is a new one. */
export async function sendingOf(
  m: EntityManager,
  sendingId: string,
): Promise<{ shareId: string; recipients: Set<string> } | null> {
  const rows = await m.query<{ shareId: string; recipient: string }[]>(
    'SELECT share_id AS "shareId", recipient FROM hand_over WHERE sending_id = $1',
    [sendingId],
  );
  const [first] = rows;
  return first ? { shareId: first.shareId, recipients: new Set(rows.map((r) => r.recipient)) } : null;
}

/** How many messages somebody has sent by a channel since a moment. */
export async function sentSince(
  m: EntityManager,
  personId: string,
  channel: 'mail' | 'text',
  since: Date,
): Promise<number> {
  const [row] = await m.query<{ count: number }[]>(
    `SELECT count(DISTINCT (sending_id, recipient))::int AS count FROM hand_over
      WHERE by_id = $1 AND channel = $2 AND sending_id IS NOT NULL AND at > $3`,
    [personId, channel, since],
  );
  return row?.count ?? 0;
}

/** Keeps what was handed over; what went wrong earlier with the same for the same recipient is settled by it. */
export async function keepHandOvers(tx: EntityManager, rows: readonly HandOver[]): Promise<void> {
  const [first] = rows;
  if (!first) return;
  await tx.query(
    `INSERT INTO hand_over (id, share_id, what, channel, recipient, recipient_name, sending_id, mail_id, text_id,
        same_way, by_id, at, told)
      SELECT * FROM json_to_recordset($1) AS each (id uuid, share_id uuid, what text, channel text, recipient text,
        recipient_name text, sending_id uuid, mail_id uuid, text_id uuid, same_way boolean, by_id uuid,
        at timestamptz, told jsonb)`,
    [
      JSON.stringify(
        rows.map((h) => ({
          ...{ id: h.id, share_id: h.shareId, what: h.what, channel: h.channel, recipient: h.recipient },
          ...{ recipient_name: h.name, sending_id: h.sendingId, mail_id: h.mailId, text_id: h.textId },
          ...{ same_way: h.sameWay, by_id: h.byId, at: h.at, told: h.told },
        })),
      ),
    ],
  );
  await tx.query(
    `UPDATE hand_over h SET settled_at = $1 FROM unnest($2::uuid[], $3::text[], $4::text[]) AS n (share_id, what, recipient)
      WHERE h.share_id = n.share_id AND h.what = n.what AND h.recipient = n.recipient AND h.recipient <> ''
        AND h.settled_at IS NULL AND NOT h.same_way AND h.id <> ALL($5::uuid[])`,
    [
      ...[first.at, rows.map((h) => h.shareId), rows.map((h) => h.what), rows.map((h) => h.recipient)],
      rows.map((h) => h.id),
    ],
  );
}

/** @returns false: the share has no such row */
export async function settle(tx: EntityManager, shareId: string, id: string, at: Date | null): Promise<boolean> {
  const [, count] = (await tx.query('UPDATE hand_over SET settled_at = $3 WHERE share_id = $1 AND id = $2', [
    ...[shareId, id, at],
  ])) as [unknown, number];
  return count > 0;
}

export type Needing = Omit<HandOverFinding, 'at' | 'title'> & { at: Date; told: ToldFacts };

/** What somebody handed over that did not arrive, or went the same way as its other half, since a moment. */
export function needingOf(m: EntityManager, personId: string, since: Date, limit: number): Promise<Needing[]> {
  return m.query(
    `SELECT CASE WHEN h.same_way THEN 'same-way' ELSE 'not-arrived' END AS kind, h.id AS "handOverId",
            h.share_id AS "shareId", h.recipient, h.at, h.told, ${ANSWER} AS words
       FROM hand_over h ${SENT}
      WHERE h.by_id = $1 AND h.at > $2 AND h.settled_at IS NULL
        AND (h.same_way OR ${STATE} IN ('refused', 'given-up', 'returned'))
      ORDER BY h.at DESC, h.id DESC LIMIT $3`,
    [personId, since, limit],
  );
}

/** Whom a mail of a hand-over was from, and of which share; null: it was of none. */
export async function handOverOfMail(
  m: EntityManager,
  mailId: string,
): Promise<{ id: string; shareId: string; byId: string; recipient: string; title: string } | null> {
  const [row] = await m.query<{ id: string; shareId: string; byId: string; recipient: string; title: string }[]>(
    `SELECT h.id, h.share_id AS "shareId", h.by_id AS "byId", h.recipient, s.title
       FROM hand_over h JOIN share s ON s.id = h.share_id WHERE h.mail_id = $1 LIMIT 1`,
    [mailId],
  );
  return row ?? null;
}

/** Whom somebody wrote to, the last first. */
export function knownRecipients(
  m: EntityManager,
  personId: string,
  limit: number,
): Promise<{ recipient: string; name: string; lastAt: Date }[]> {
  return m.query(
    `SELECT recipient, name, last_at AS "lastAt" FROM known_recipient WHERE person_id = $1
      ORDER BY last_at DESC, recipient LIMIT $2`,
    [personId, limit],
  );
}

/** A name that is not said this time stays what it was. */
export async function remember(
  tx: EntityManager,
  personId: string,
  people: readonly Addressee[],
  at: Date,
): Promise<void> {
  await tx.query(
    `INSERT INTO known_recipient (person_id, recipient, name, last_at)
      SELECT $1, recipient, name, $4 FROM unnest($2::text[], $3::text[]) AS asked (recipient, name) ORDER BY recipient
      ON CONFLICT (person_id, recipient) DO UPDATE SET last_at = excluded.last_at,
        name = CASE excluded.name WHEN '' THEN known_recipient.name ELSE excluded.name END`,
    [personId, people.map((p) => p.value), people.map((p) => p.name), at],
  );
}

export async function forget(tx: EntityManager, personId: string, recipient: string): Promise<boolean> {
  const [, count] = (await tx.query('DELETE FROM known_recipient WHERE person_id = $1 AND recipient = $2', [
    ...[personId, recipient],
  ])) as [unknown, number];
  return count > 0;
}
