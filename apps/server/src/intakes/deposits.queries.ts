import { type ContentVerdict, type DepositState, type IntakeAnswers, type Scan } from '@quay/core';
import type { AskedBack, DepositFileRow, HandedFile } from '@quay/contract';
import type { EntityManager } from 'typeorm';

export interface DepositRecord {
  id: string;
  intakeId: string;
  contributorId: string;
  number: string | null;
  receiptKeySealed: Buffer | null;
  receiptHash: Buffer | null;
  passwordMark: Buffer | null;
  beganAt: Date;
  handedInAt: Date | null;
  state: DepositState;
  answers: IntakeAnswers;
  who: string;
  actorId: string | null;
  fromAddress: string;
  recipient: string | null;
  personId: string | null;
  sessionHash: Buffer | null;
  /** Of who was signed in. */
  personName: string | null;
  personMail: string | null;
  files: number;
  bytes: number;
  decidedAt: Date | null;
  decidedBy: string | null;
  reason: string;
  /** What it was handed in to answer, by number; null: nothing. */
  follows: string | null;
  /** What answers it. */
  followedBy: string[];
}

const COLUMNS = `d.id, d.intake_id AS "intakeId", d.contributor_id AS "contributorId", d.number,
  d.receipt_key_sealed AS "receiptKeySealed", d.receipt_hash AS "receiptHash", d.password_mark AS "passwordMark",
  d.began_at AS "beganAt", d.handed_in_at AS "handedInAt", d.state, d.answers, d.who, d.actor_id AS "actorId",
  d.from_address AS "fromAddress", d.recipient, d.person_id AS "personId", d.session_hash AS "sessionHash",
  (SELECT name FROM person p WHERE p.id = d.person_id) AS "personName",
  (SELECT nullif(email, '') FROM person p WHERE p.id = d.person_id) AS "personMail", d.files, d.bytes::float8 AS bytes, d.decided_at AS "decidedAt",
  (SELECT name FROM person p WHERE p.id = d.decided_by) AS "decidedBy", d.reason,
  (SELECT f.number FROM deposit f WHERE f.id = d.follows_id) AS follows,
  ARRAY(SELECT f.number FROM deposit f WHERE f.follows_id = d.id AND f.handed_in_at IS NOT NULL ORDER BY f.handed_in_at)
    AS "followedBy"`;

async function one(m: EntityManager, which: string, bound: unknown[]): Promise<DepositRecord | null> {
  const [row] = await m.query<DepositRecord[]>(`SELECT ${COLUMNS} FROM deposit d WHERE ${which}`, bound);
  return row ?? null;
}

export const depositById = (m: EntityManager, id: string): Promise<DepositRecord | null> => one(m, 'd.id = $1', [id]);
/** What a browser is handing in, or handed in last. */
export const depositByCookie = (
  m: EntityManager,
  intakeId: string,
  cookieHash: Buffer,
): Promise<DepositRecord | null> => one(m, 'd.intake_id = $1 AND d.cookie_hash = $2', [intakeId, cookieHash]);
export const depositByReceipt = (m: EntityManager, intakeId: string, keyHash: Buffer): Promise<DepositRecord | null> =>
  one(m, 'd.intake_id = $1 AND d.receipt_key_hash = $2', [intakeId, keyHash]);

/** Those of an intake that were handed in: what waits first, then the last. */
export const depositsOf = (m: EntityManager, intakeId: string, limit: number): Promise<DepositRecord[]> =>
  m.query(
    `SELECT ${COLUMNS} FROM deposit d WHERE d.intake_id = $1 AND d.handed_in_at IS NOT NULL
      ORDER BY d.state = 'waiting' DESC, d.handed_in_at DESC, d.id DESC LIMIT $2`,
    [intakeId, limit],
  );

/** Those of an intake between edges, and how many of them were accepted; nothing of spans without any. */
export const depositsBetween = (
  m: EntityManager,
  intakeId: string,
  edges: readonly Date[],
): Promise<{ bar: number; all: number; full: number }[]> =>
  m.query(
    `SELECT width_bucket(handed_in_at, $2::timestamptz[]) - 1 AS bar, count(*)::int AS all,
            (count(*) FILTER (WHERE state IN ('accepted', 'partly')))::int AS full
       FROM deposit WHERE intake_id = $1 AND handed_in_at >= $3 AND handed_in_at < $4 GROUP BY 1 ORDER BY 1`,
    [intakeId, edges, edges[0], edges.at(-1)],
  );

/** What one contributor handed in, the last first. */
export const depositsBy = (m: EntityManager, contributorId: string): Promise<DepositRecord[]> =>
  m.query(
    `SELECT ${COLUMNS} FROM deposit d WHERE d.contributor_id = $1 AND d.handed_in_at IS NOT NULL
      ORDER BY d.handed_in_at DESC, d.id DESC LIMIT 100`,
    [contributorId],
  );

/** What one contributor has handed in or is handing in, without what was refused. */
export async function takenOf(m: EntityManager, contributorId: string): Promise<{ files: number; bytes: number }> {
  const [row] = await m.query<{ files: number; bytes: number }[]>(
    `SELECT coalesce(sum(files), 0)::int AS files, coalesce(sum(bytes), 0)::float8 AS bytes
       FROM deposit WHERE contributor_id = $1 AND state <> 'refused'`,
    [contributorId],
  );
  return row ?? { files: 0, bytes: 0 };
}

/** What is on its way at an intake and not handed in yet, by where it comes from. */
export const arrivingAt = (m: EntityManager, intakeId: string): Promise<{ from: string; bytes: number }[]> =>
  m.query(
    `SELECT from_address AS "from", sum(bytes)::float8 AS bytes FROM deposit
      WHERE intake_id = $1 AND state = 'arriving' AND bytes > 0 GROUP BY from_address`,
    [intakeId],
  );

/** What is being handed in, by path. */
export const handedFiles = (m: EntityManager, depositId: string): Promise<HandedFile[]> =>
  m.query(
    `SELECT id, path, size_bytes::float8 AS "sizeBytes", offset_bytes::float8 AS "arrivedBytes",
            sha256 IS NOT NULL AS here FROM deposit_file WHERE deposit_id = $1 ORDER BY path`,
    [depositId],
  );

export interface DepositFileRecord {
  id: string;
  depositId: string;
  path: string;
  sizeBytes: number;
  sha256: Buffer;
  modifiedAt: Date | null;
  media: string | null;
  verdict: ContentVerdict | null;
  verdictWords: string;
  scan: Scan | null;
  finding: string;
  decided: 'accepted' | 'refused' | null;
  nodeId: string | null;
  isHere: boolean;
}

const FILE = `f.id, f.deposit_id AS "depositId", f.path, f.size_bytes::float8 AS "sizeBytes", f.sha256,
  f.modified_at AS "modifiedAt", f.media, f.verdict, f.verdict_words AS "verdictWords", f.scan, f.finding, f.decided, f.node_id AS "nodeId",
  f.blob_sha256 IS NOT NULL AS "isHere"`;

/** What was handed in, by path. */
export const filesOf = (m: EntityManager, depositId: string): Promise<DepositFileRecord[]> =>
  m.query(`SELECT ${FILE} FROM deposit_file f WHERE f.deposit_id = $1 AND f.sha256 IS NOT NULL ORDER BY f.path`, [
    depositId,
  ]);

/** The first few of each of several deposits. */
export const firstFilesOf = (m: EntityManager, depositIds: string[], each: number): Promise<DepositFileRecord[]> =>
  m.query(
    `SELECT f.* FROM unnest($1::uuid[]) d (id) CROSS JOIN LATERAL (
       SELECT ${FILE} FROM deposit_file f WHERE f.deposit_id = d.id AND f.sha256 IS NOT NULL
        ORDER BY (f.verdict IN ('program', 'other', 'bomb') OR f.scan IN ('found', 'too-large')) IS TRUE DESC, f.path LIMIT $2) f`,
    [depositIds, each],
  );

export async function fileOf(m: EntityManager, depositId: string, fileId: string): Promise<DepositFileRecord | null> {
  const [row] = await m.query<DepositFileRecord[]>(
    `SELECT ${FILE} FROM deposit_file f WHERE f.deposit_id = $1 AND f.id = $2 AND f.sha256 IS NOT NULL`,
    [depositId, fileId],
  );
  return row ?? null;
}

export interface AskedBackRecord {
  depositId: string;
  words: string;
  at: Date;
  by: string;
}

/** What contributors were asked about what they handed in, the first first. */
export const askedBack = (m: EntityManager, depositIds: readonly string[]): Promise<AskedBackRecord[]> =>
  m.query(
    `SELECT q.deposit_id AS "depositId", q.words, q.asked_at AS at, p.name AS by
       FROM deposit_question q JOIN person p ON p.id = q.asked_by
      WHERE q.deposit_id = ANY($1) ORDER BY q.asked_at, q.id`,
    [depositIds],
  );
export const askedBackRow = ({ words, at, by }: AskedBackRecord): AskedBack => ({ words, at: at.toISOString(), by });

/** Where its contributor gets mail about it; empty: nowhere that is known. */
export const mailOf = ({ answers, recipient, personMail }: DepositRecord): string =>
  answers.mail || (recipient?.includes('@') ? recipient : '') || (personMail ?? '');

/** What is new of a deposit and of the intake that it is part of. */
export async function addTaken(
  tx: EntityManager,
  deposit: Pick<DepositRecord, 'id' | 'intakeId'>,
  { files, bytes, at }: { files: number; bytes: number; at: Date },
): Promise<void> {
  await tx.query('UPDATE intake SET taken_bytes = taken_bytes + $2 WHERE id = $1', [deposit.intakeId, bytes]);
  await tx.query('UPDATE deposit SET files = files + $2, bytes = bytes + $3, touched_at = $4 WHERE id = $1', [
    ...[deposit.id, files, bytes, at],
  ]);
}

/** @param seen nodes that whoever asks sees, with the folders that they lie in */
export function fileRow(file: DepositFileRecord, seen: ReadonlyMap<string, string>): DepositFileRow {
  const { id, path, sizeBytes, sha256, verdict, verdictWords, scan, finding, decided, nodeId } = file;
  const folderId = nodeId === null ? undefined : seen.get(nodeId);
  return {
    ...{ id, path, sizeBytes, sha256: sha256.toString('hex'), verdict, scan, finding, decided },
    words: verdict === null ? 'not looked at yet' : verdictWords,
    node: nodeId !== null && folderId !== undefined ? { id: nodeId, folderId } : null,
  };
}
