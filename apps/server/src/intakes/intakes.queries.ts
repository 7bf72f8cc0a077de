import {
  actBits,
  FINISH_WITHIN_MS,
  intakeState,
  type Address,
  type AudienceKind,
  type Embed,
  type IntakeFacts,
  type IntakeLimits,
  type IntakeQuestions,
  type IntakeState,
  type RailFault,
  type StraightIn,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { bitsOn, reachStands } from '../access/access.queries.js';
import { stepUp } from '../access/tree.queries.js';
import { allGuardrails, INTAKE_TERMS, intakeFaults, type JudgedIntake } from '../shares/guardrails.queries.js';
import { asReached } from '../shares/shares.queries.js';

/** An intake with everything its state, its link and its rows depend on. */
export interface IntakeRecord {
  kind: 'intake';
  id: string;
  title: string;
  message: string;
  tokenSealed: Buffer;
  address: Address;
  addressId: string;
  passwordHash: string | null;
  opensAt: Date | null;
  closesAt: Date | null;
  withdrawnAt: Date | null;
  createdAt: Date;
  createdBy: string;
  creatorName: string;
  folderId: string;
  folderName: string;
  storeId: string;
  /** Whose home the folder lies in; null: it lies in none. */
  homeOf: string | null;
  waits: boolean;
  straight: StraightIn | null;
  folderPattern: string | null;
  limits: IntakeLimits;
  questions: IntakeQuestions;
  receiptByMail: boolean;
  audience: AudienceKind;
  remindDays: number | null;
  embed: Embed | null;
  /** Those who were asked by name, and of them who has handed something in. */
  askedOf: number;
  askedIn: number;
  /** With what is still arriving, and without what was refused. */
  takenBytes: number;
  /** Its folder is gone, whoever made it may put nothing there any more, or it does not keep to a rule. */
  broken: boolean;
  /** In the trash, with what its folder lies in. */
  gone: boolean;
  /** Guardrails that it does not keep to. */
  railFaults: RailFault[];
  deposits: number;
  files: number;
  bytes: number;
  waiting: number;
  lastAt: Date | null;
  /** Whoever made it may put nothing into the folder any more. */
  lost: boolean;
  /** Whoever asks manages the folder. */
  managed: boolean;
}

/** Whoever manages a folder sees what is handed in for it; past a stop an admin manages without seeing. */
const MANAGES = actBits(['see', 'read', 'manage']);

/** Whether the folder of an intake `i`, or one that it lies in, is in the trash. */
const IS_GONE = `(WITH RECURSIVE up AS (
    SELECT id, parent_id, trashed_at FROM node WHERE id = i.folder_id
    UNION ALL SELECT n.id, n.parent_id, n.trashed_at FROM ${stepUp()}
  ) SELECT bool_or(trashed_at IS NOT NULL) FROM up)`;

const HANDED_IN = `LEFT JOIN LATERAL (
    SELECT count(*)::int AS deposits, coalesce(sum(d.files), 0)::int AS files,
           coalesce(sum(d.bytes), 0)::float8 AS bytes, count(*) FILTER (WHERE d.state = 'waiting')::int AS waiting,
           max(d.handed_in_at) AS "lastAt"
      FROM deposit d WHERE d.intake_id = i.id AND d.handed_in_at IS NOT NULL) c ON true`;

/** Those who an intake `i` asks by name, as rows of a key: an address, a number, or the id of a person. */
const ASKED_BY_NAME = `(
    SELECT r.value AS who, NULL::uuid AS person_id FROM intake_recipient r
     WHERE r.intake_id = i.id AND i.audience = 'listed' AND NOT r.blocked AND r.kind IN ('address', 'number')
    UNION
    SELECT p.id::text, p.id FROM person p WHERE i.audience = 'members' AND p.disabled_at IS NULL AND p.id IN (
      WITH RECURSIVE within AS (
        SELECT m.group_id FROM intake_member m WHERE m.intake_id = i.id AND m.group_id IS NOT NULL
        UNION SELECT s.member_group_id FROM membership s JOIN within w ON w.group_id = s.group_id
         WHERE s.ended_at IS NULL AND s.member_group_id IS NOT NULL)
      SELECT m.person_id FROM intake_member m WHERE m.intake_id = i.id AND m.person_id IS NOT NULL
      UNION SELECT s.person_id FROM membership s JOIN within w ON w.group_id = s.group_id
       WHERE s.ended_at IS NULL AND s.person_id IS NOT NULL))`;
/** Of them, when they last handed something in. */
const HANDED_IN_BY = `(SELECT max(d.handed_in_at) FROM deposit d
    WHERE d.intake_id = i.id AND (d.recipient = n.who OR d.person_id = n.person_id))`;
const ASKED = `LEFT JOIN LATERAL (
    SELECT count(*)::int AS "askedOf", count(${HANDED_IN_BY})::int AS "askedIn" FROM ${ASKED_BY_NAME} n) e ON true`;

const COLUMNS = `'intake' AS kind, i.id, i.title, i.message, i.token_sealed AS "tokenSealed", i.password_hash AS "passwordHash",
  json_build_object('scheme', a.scheme, 'host', a.host, 'port', a.port, 'pathPrefix', a.path_prefix) AS address,
  i.opens_at AS "opensAt", i.closes_at AS "closesAt", i.withdrawn_at AS "withdrawnAt", i.created_at AS "createdAt",
  i.created_by AS "createdBy", p.name AS "creatorName", n.id AS "folderId", n.name AS "folderName",
  n.store_id AS "storeId", s.owner_id AS "homeOf", i.waits, i.straight, i.folder_pattern AS "folderPattern", i.limits, i.questions,
  ${INTAKE_TERMS}, i.receipt_by_mail AS "receiptByMail", i.audience, i.remind_days AS "remindDays", i.embed, e."askedOf", e."askedIn", i.taken_bytes::float8 AS "takenBytes",
  c.deposits, c.files, c.bytes, c.waiting, c."lastAt"`;

/** Intakes as whoever asks sees them, the last made first; `total` counts them without a limit. */
async function load(
  m: EntityManager,
  at: Date,
  { personId, which, bound, seen = 'true', limit = 1000 }: Which,
): Promise<(IntakeRecord & { total: number })[]> {
  const adds = actBits(['add']);
  const rows = await asReached(m, at, () =>
    m.query<(Omit<IntakeRecord, 'broken' | 'railFaults'> & JudgedIntake & { stood: boolean; total: number })[]>(
      `SELECT *, (count(*) OVER ())::int AS total FROM (
         SELECT ${COLUMNS}, ${IS_GONE} AS gone, (${bitsOn('n', 'i.created_by')} & ${adds}) <> ${adds} AS lost,
                (${bitsOn('n', '$2::uuid')} & ${MANAGES}) = ${MANAGES} AS managed,
                ${reachStands('i.created_by', '$1')} AS stood
           FROM intake i JOIN address a ON a.id = i.address_id JOIN person p ON p.id = i.created_by
           JOIN node n ON n.id = i.folder_id JOIN store s ON s.id = n.store_id ${HANDED_IN} ${ASKED} WHERE ${which}
       ) i WHERE ${seen} ORDER BY i."createdAt" DESC, i.id DESC LIMIT ${limit}`,
      [at, personId, ...bound],
    ),
  );
  if (rows.length === 0) return [];
  const kept = await allGuardrails(m);
  return rows.map((row) => {
    // What is over, and can be finished by nobody any more, keeps to nothing.
    const isOver = row.closesAt !== null && row.closesAt.getTime() + FINISH_WITHIN_MS <= at.getTime();
    const railFaults = isOver ? [] : intakeFaults(row, kept);
    return { ...row, railFaults, broken: row.gone || row.lost || railFaults.length > 0 };
  });
}

interface Which {
  /** Whoever asks; null: a contributor. */
  personId: string | null;
  /** Of `i`; bound from $3 on. */
  which: string;
  bound: unknown[];
  /** Of what is known of each by then. */
  seen?: string;
  limit?: number;
}

/** The intake that a link leads to. */
export async function intakeByToken(m: EntityManager, at: Date, tokenHash: Buffer): Promise<IntakeRecord | null> {
  const [found] = await load(m, at, { personId: null, which: 'i.token_hash = $3', bound: [tokenHash] });
  return found ?? null;
}

export async function intakeById(
  m: EntityManager,
  at: Date,
  id: string,
  personId: string | null = null,
): Promise<IntakeRecord | null> {
  const [found] = await load(m, at, { personId, which: 'i.id = $3', bound: [id] });
  return found ?? null;
}

/** Those that somebody made or whose folder they manage; an admin sees that there are others. Asked after `ensureReach`. */
export const intakesSeen = (
  m: EntityManager,
  at: Date,
  { personId, role }: { personId: string; role: string },
  limit: number,
): Promise<(IntakeRecord & { total: number })[]> =>
  load(m, at, {
    ...{ personId, which: '$3::boolean IS NOT NULL', bound: [role === 'admin'], limit },
    seen: '$3::boolean OR i."createdBy" = $2 OR i.managed',
  });

/** Those of some folders that could still take something in. */
export const intakesInto = (
  m: EntityManager,
  at: Date,
  folderIds: readonly string[],
): Promise<{ folderId: string; title: string }[]> =>
  m.query(
    `SELECT folder_id AS "folderId", title FROM intake
      WHERE folder_id = ANY($1) AND withdrawn_at IS NULL AND (closes_at IS NULL OR closes_at > $2)`,
    [folderIds, at],
  );

export interface ExpectedRecord {
  /** An address, a number, or the id of a person. */
  key: string;
  who: string;
  mail: string | null;
  handedInAt: Date | null;
  remindedAt: Date | null;
}

/** Those whom an intake asks by name: first who has handed nothing in. */
export const expectedOf = (m: EntityManager, intakeId: string, limit: number): Promise<ExpectedRecord[]> =>
  m.query(
    `SELECT n.who AS key, coalesce(p.name, n.who) AS who, r.at AS "remindedAt", ${HANDED_IN_BY} AS "handedInAt",
            CASE WHEN n.person_id IS NOT NULL THEN nullif(p.email, '') WHEN n.who LIKE '%@%' THEN n.who END AS mail
       FROM intake i CROSS JOIN LATERAL ${ASKED_BY_NAME} n LEFT JOIN person p ON p.id = n.person_id
       LEFT JOIN intake_reminder r ON r.intake_id = i.id AND r.who = n.who
      WHERE i.id = $1 ORDER BY ${HANDED_IN_BY} IS NOT NULL, 2, 1 LIMIT $2`,
    [intakeId, limit],
  );

/** Those that are to remind by their rule at this moment, of a closing that they have not reminded of. */
export const toRemind = (m: EntityManager, at: Date): Promise<{ id: string }[]> =>
  m.query(
    `SELECT id FROM intake WHERE remind_days IS NOT NULL AND withdrawn_at IS NULL AND closes_at > $1
        AND closes_at - make_interval(days => remind_days) <= $1 AND (opens_at IS NULL OR opens_at <= $1)
        AND reminded_of IS DISTINCT FROM closes_at ORDER BY closes_at LIMIT 200`,
    [at],
  );

/** Has an intake stay as it is until the transaction ends. */
export async function holdIntake(tx: EntityManager, id: string): Promise<void> {
  await tx.query('SELECT 1 FROM intake WHERE id = $1 FOR UPDATE', [id]);
}

export const factsOf = ({ opensAt, closesAt, withdrawnAt, broken }: IntakeRecord): IntakeFacts => ({
  window: { opensAt: opensAt?.getTime() ?? null, closesAt: closesAt?.getTime() ?? null },
  withdrawnAt: withdrawnAt?.getTime() ?? null,
  broken,
});

export const stateOf = (intake: IntakeRecord, at: number): IntakeState => intakeState(factsOf(intake), at);
