import type { HandedOver, HandOverChannel, ToldFacts } from '@quay/core';
import type { HandOverRow } from '@quay/contract';
import type { EntityManager } from 'typeorm';

export interface HandOver {
  id: string;
  shareId: string;
  what: HandedOver;
  channel: HandOverChannel;
  recipient: string;
  sendingId: string | null;
  mailId: string | null;
  byId: string;
  at: Date;
  told: ToldFacts;
}

export type HandOverFound = Omit<HandOverRow, 'at' | 'outdated'> & { at: Date; told: ToldFacts };

/** What was handed over of a share, the last first. */
export function handOversOf(m: EntityManager, shareId: string, limit: number): Promise<HandOverFound[]> {
  return m.query(
    `SELECT h.id, h.at, p.name AS by, h.what, h.channel, h.recipient, h.told,
            CASE h.channel WHEN 'mail' THEN coalesce(m.state, 'sent') ELSE 'done' END AS state,
            coalesce(m.answer, '') AS answer
       FROM hand_over h JOIN person p ON p.id = h.by_id LEFT JOIN mail m ON m.id = h.mail_id
      WHERE h.share_id = $1 ORDER BY h.at DESC, h.id DESC LIMIT $2`,
    [shareId, limit],
  );
}

/** Those of a sending that have been written down already. */
export async function recipientsOf(m: EntityManager, sendingId: string): Promise<Set<string>> {
  const rows = await m.query<{ recipient: string }[]>('SELECT recipient FROM hand_over WHERE sending_id = $1', [
    sendingId,
  ]);
  return new Set(rows.map((r) => r.recipient));
}

/** How many messages somebody has sent since a moment. */
export async function sentSince(m: EntityManager, personId: string, since: Date): Promise<number> {
  const [row] = await m.query<{ count: number }[]>(
    `SELECT count(*)::int AS count FROM hand_over WHERE by_id = $1 AND channel = 'mail' AND at > $2`,
    [personId, since],
  );
  return row?.count ?? 0;
}

export async function keepHandOver(m: EntityManager, h: HandOver): Promise<void> {
  await m.query(
    `INSERT INTO hand_over (id, share_id, what, channel, recipient, sending_id, mail_id, by_id, at, told)
      VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
    [h.id, h.shareId, h.what, h.channel, h.recipient, h.sendingId, h.mailId, h.byId, h.at, JSON.stringify(h.told)],
  );
}
