import {
  addressText,
  HAND_OVER_CHANNEL_WORDS,
  type HandedOver,
  type HandOverChannel,
  type ShareLevel,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { passwordMark } from '../hand-over/told.js';
import type { NewEntry } from '../ledger/ledger.service.js';
import type { Random } from './random.js';

const HOUR_MS = 3_600_000;

interface DemoHandOver {
  /** By its title. */
  share: string;
  what: HandedOver;
  channel: HandOverChannel;
  to: string;
  name?: string;
  hoursAgo: number;
  /** Of what the office sent. */
  state?: 'sent' | 'refused' | 'returned';
  answer?: string;
  sameWay?: boolean;
}

const TAKEN = { state: 'sent', answer: '250 2.0.0 OK: queued' } as const;
const LENA = { to: 'lena@mill.example', name: 'Lena Marsh' };

/** To whom links and passwords of the demo went, and what became of that. */
const HAND_OVERS: DemoHandOver[] = [
  { share: 'Mill Lane drawings', what: 'link', channel: 'mail', ...LENA, hoursAgo: 26, ...TAKEN },
  { share: 'Mill Lane drawings', what: 'password', channel: 'telephone', ...LENA, hoursAgo: 25 },
  { share: 'Weir House point cloud', what: 'link', channel: 'mail', to: 'j.hart@weir.example', hoursAgo: 30, ...TAKEN },
  { share: 'Weir House point cloud', what: 'password', channel: 'text', to: '+447700900123', hoursAgo: 29, ...TAKEN },
  {
    ...{ share: 'Tender pack 2', what: 'link', channel: 'mail', to: 'bids@northgate.example', hoursAgo: 20 },
    ...{ state: 'returned', answer: 'There is no such address. It came back: 550 5.1.1 nobody of that name' },
  },
  {
    ...{ share: 'Mill Lane drawings', what: 'link', channel: 'mail', to: 'ash@quary.example', hoursAgo: 5 },
    ...{ state: 'refused', answer: '550 5.1.2 quary.example: no such domain' },
  },
  { share: 'Forecourt drawings', what: 'link', channel: 'own-mail', to: 'office@brookline.example', hoursAgo: 50 },
  {
    ...{
      share: 'Forecourt drawings',
      what: 'password',
      channel: 'own-mail',
      to: 'office@brookline.example',
      hoursAgo: 49,
    },
    sameWay: true,
  },
  { share: 'Terrace levels', what: 'link', channel: 'paper', to: 'Hartop yard office', hoursAgo: 70 },
];

const MESSAGES = [
  {
    ...{ by: null, name: 'House style', subject: '{{title}}, from Saltmarsh Survey', begins: true },
    body: 'Dear client,\n\nyour files are ready: {{title}}.\n\n{{link}}\n\nThe link opens {{opens}} and works {{closes}}. {{password-note}}\n\n{{items}}\n\nWith kind regards\n{{sender}}',
  },
  {
    ...{ by: 'tomas', name: 'To the site', subject: '{{title}}', begins: false },
    body: '{{title}}: {{link}}\n\n{{password-note}}\n\n{{sender}}',
  },
];

export interface HandOversOf {
  tx: EntityManager;
  random: Random;
  now: number;
  people: ReadonlyMap<string, string>;
  ledger: { at: number; entry: NewEntry }[];
}

interface ShareOf {
  id: string;
  by: string;
  byName: string;
  level: ShareLevel;
  opensAt: Date | null;
  closesAt: Date | null;
  passwordHash: string | null;
  scheme: 'http' | 'https';
  host: string;
  port: number | null;
  pathPrefix: string;
}

export async function loadHandOvers(l: HandOversOf): Promise<void> {
  for (const done of HAND_OVERS) await loadHandOver(l, done);
  for (const { by, name, subject, body, begins } of MESSAGES) {
    const at = l.now - 900 * HOUR_MS;
    await l.tx.query(
      `INSERT INTO message_template (id, person_id, name, subject, body, begins, changed_at)
        VALUES ($1, $2, $3, $4, $5, $6, $7)`,
      [l.random.uuid(at), by && l.people.get(by), name, subject, body, begins, new Date(at)],
    );
  }
}

async function loadHandOver(l: HandOversOf, done: DemoHandOver): Promise<void> {
  const [share] = await l.tx.query<ShareOf[]>(
    `SELECT s.id, s.created_by AS by, p.name AS "byName", s.level, s.opens_at AS "opensAt", s.closes_at AS "closesAt",
            s.password_hash AS "passwordHash", a.scheme, a.host, a.port, a.path_prefix AS "pathPrefix"
       FROM share s JOIN person p ON p.id = s.created_by JOIN address a ON a.id = s.address_id
      WHERE s.title = $1`,
    [done.share],
  );
  if (!share) throw new Error(`The demo has no share ${done.share}.`);
  const at = new Date(l.now - done.hoursAgo * HOUR_MS);
  const told = {
    window: { opensAt: share.opensAt?.getTime() ?? null, closesAt: share.closesAt?.getTime() ?? null },
    ...{ address: addressText(share), level: share.level },
    password: passwordMark(share.passwordHash),
  };
  const sent = await loadSent(l, done, share, at);
  await l.tx.query(
    `INSERT INTO hand_over (id, share_id, what, channel, recipient, recipient_name, sending_id, mail_id, text_id,
        same_way, by_id, at, told) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
    [
      ...[l.random.uuid(at.getTime()), share.id, done.what, done.channel, done.to, done.name ?? ''],
      ...[null, sent.mailId, sent.textId, done.sameWay ?? false, share.by, at, JSON.stringify(told)],
    ],
  );
  await l.tx.query(
    `INSERT INTO known_recipient (person_id, recipient, name, last_at) VALUES ($1, $2, $3, $4)
      ON CONFLICT (person_id, recipient) DO UPDATE SET last_at = greatest(known_recipient.last_at, excluded.last_at)`,
    [share.by, done.to, done.name ?? '', at],
  );
  l.ledger.push({
    at: at.getTime(),
    entry: {
      kind: done.sameWay ? 'share.handed-over-same-way' : 'share.handed-over',
      actor: { kind: 'person', id: share.by, name: share.byName },
      shareId: share.id,
      detail: { title: done.share, what: done.what, how: HAND_OVER_CHANNEL_WORDS[done.channel], to: done.to },
    },
  });
}

/** What the office sent for it, and how that ended. */
async function loadSent(
  l: HandOversOf,
  { channel, to, name, state, answer }: DemoHandOver,
  { byName }: ShareOf,
  at: Date,
): Promise<{ mailId: string | null; textId: string | null }> {
  if (state === undefined) return { mailId: null, textId: null };
  const id = l.random.uuid(at.getTime());
  if (channel === 'text') {
    await l.tx.query(
      `INSERT INTO text_message (id, recipient, body, state, tries, answer, created_at, ended_at)
        VALUES ($1, $2, '', $3, 1, '202 taken', $4, $4)`,
      [id, to, state, at],
    );
    return { mailId: null, textId: id };
  }
  await l.tx.query(
    `INSERT INTO mail (id, recipient, recipient_name, subject, body, state, tries, answer, created_at, ended_at, shown_as)
      VALUES ($1, $2, $3, '', '', $4, 1, $5, $6, $6, $7)`,
    [id, to, name ?? '', state, answer, at, `A link of ${byName}`],
  );
  return { mailId: id, textId: null };
}
