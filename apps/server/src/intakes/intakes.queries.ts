import {
  actBits,
  intakeState,
  type Address,
  type IntakeFacts,
  type IntakeLimits,
  type IntakeQuestions,
  type IntakeState,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { bitsOn, reachStands } from '../access/access.queries.js';
import { stepUp } from '../access/tree.queries.js';
import { asReached } from '../shares/shares.queries.js';

/** An intake with everything its state, its link and its rows depend on. */
export interface IntakeRecord {
  id: string;
  title: string;
  message: string;
  tokenSealed: Buffer;
  address: Address;
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
  folderPattern: string | null;
  limits: IntakeLimits;
  questions: IntakeQuestions;
  receiptByMail: boolean;
  /** With what is still arriving, and without what was refused. */
  takenBytes: number;
  /** Its folder is gone, or whoever made it may put nothing there any more. */
  broken: boolean;
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

const COLUMNS = `i.id, i.title, i.message, i.token_sealed AS "tokenSealed", i.password_hash AS "passwordHash",
  json_build_object('scheme', a.scheme, 'host', a.host, 'port', a.port, 'pathPrefix', a.path_prefix) AS address,
  i.opens_at AS "opensAt", i.closes_at AS "closesAt", i.withdrawn_at AS "withdrawnAt", i.created_at AS "createdAt",
  i.created_by AS "createdBy", p.name AS "creatorName", n.id AS "folderId", n.name AS "folderName",
  n.store_id AS "storeId", s.owner_id AS "homeOf", i.waits, i.folder_pattern AS "folderPattern", i.limits, i.questions,
  i.receipt_by_mail AS "receiptByMail", i.taken_bytes::float8 AS "takenBytes",
  c.deposits, c.files, c.bytes, c.waiting, c."lastAt"`;

/** Intakes as whoever asks sees them, the last made first; `total` counts them without a limit. */
function load(
  m: EntityManager,
  at: Date,
  { personId, which, bound, seen = 'true', limit = 1000 }: Which,
): Promise<(IntakeRecord & { total: number })[]> {
  const adds = actBits(['add']);
  return asReached(m, at, () =>
    m.query<(IntakeRecord & { stood: boolean; total: number })[]>(
      `SELECT *, gone OR lost AS broken, (count(*) OVER ())::int AS total FROM (
         SELECT ${COLUMNS}, ${IS_GONE} AS gone, (${bitsOn('n', 'i.created_by')} & ${adds}) <> ${adds} AS lost,
                (${bitsOn('n', '$2::uuid')} & ${MANAGES}) = ${MANAGES} AS managed,
                ${reachStands('i.created_by', '$1')} AS stood
           FROM intake i JOIN address a ON a.id = i.address_id JOIN person p ON p.id = i.created_by
           JOIN node n ON n.id = i.folder_id JOIN store s ON s.id = n.store_id ${HANDED_IN} WHERE ${which}
       ) i WHERE ${seen} ORDER BY i."createdAt" DESC, i.id DESC LIMIT ${limit}`,
      [at, personId, ...bound],
    ),
  );
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
