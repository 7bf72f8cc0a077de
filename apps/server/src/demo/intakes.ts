import {
  archiveFault,
  contentVerdict,
  depositState,
  INTAKE_LIMITS,
  receiptNumber,
  receiptText,
  RECEIPT_BYTES,
  tokenFromBytes,
  type ContentKind,
  type IntakeQuestions,
} from '@quay/core';
import { createHash } from 'node:crypto';
import { Readable } from 'node:stream';
import { gzipSync } from 'node:zlib';
import type { EntityManager } from 'typeorm';
import type { NewEntry } from '../ledger/ledger.service.js';
import type { BlobStore } from '../platform/blobs/blob-store.js';
import { seal, secretHash } from '../platform/seal.js';
import type { Random } from './random.js';
import { csv, drawing, photograph } from './sample-files.js';

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;

type Sample = 'photographs' | 'certificate' | 'levels' | 'disguised' | 'infected' | 'swelling';

interface DemoDeposit {
  who: string;
  mail?: string;
  firm?: string;
  hoursAgo: number;
  files: [sample: Sample, count: number];
  decided?: 'accepted' | 'refused';
  reason?: string;
  /** What they were asked about it an hour later. */
  asked?: string;
}

interface DemoIntake {
  title: string;
  by: string;
  folder: string;
  message: string;
  /** Days from now; null: none. */
  opens: number | null;
  closes: number | null;
  made: number;
  password?: boolean;
  withdrawn?: number;
  straight?: boolean;
  kinds?: ContentKind[];
  /** Those who are asked by name. */
  listed?: string[];
  /** So many days before it closes, those who have handed nothing in are reminded. */
  remindDays?: number;
  deposits: DemoDeposit[];
}

const P = 'Projects/2026';
const ZOE = { who: 'Zoe Calder', mail: 'zoe@brookline.example', firm: 'Brookline Surveys' };

/** What the office asks for, in every state, and what came. */
export const INTAKES: DemoIntake[] = [
  {
    ...{ title: 'Site photographs, Weir House', by: 'iris', folder: `${P}/Weir House/Photographs` },
    message: 'Photographs of the week, please, by day. Faces blurred where you can.',
    ...{ opens: null, closes: 9, made: -5, kinds: ['picture'] },
    deposits: [
      { ...ZOE, hoursAgo: 3, files: ['photographs', 9] },
      { who: 'Brookline Surveys', mail: 'site@brookline.example', hoursAgo: 8, files: ['disguised', 2] },
      { who: 'without a name', hoursAgo: 19, files: ['photographs', 1] },
      { ...ZOE, hoursAgo: 70, files: ['photographs', 6], decided: 'accepted' },
    ],
  },
  {
    ...{ title: 'Signed certificates, Mill Lane', by: 'iris', folder: `${P}/Mill Lane`, message: '' },
    ...{ opens: null, closes: 16, made: -12, password: true, kinds: ['pdf'], remindDays: 3 },
    listed: [
      ...['lena@mill.example', 'office@hartop.example', 'yard@ashquarry.example', 'works@northgate.example'],
      ...['clerk@parish.example', 'plans@fenway.example', 'site@brookline.example'],
    ],
    deposits: [
      {
        ...{ who: 'Lena Marsh', mail: 'lena@mill.example', hoursAgo: 5, files: ['certificate', 1] },
        asked: 'Please send the second page again: the signature is cut off.',
      },
      { who: 'Hartop Groundworks', mail: 'office@hartop.example', hoursAgo: 27, files: ['infected', 2] },
      {
        who: 'Ash Quarry',
        mail: 'yard@ashquarry.example',
        hoursAgo: 28,
        files: ['certificate', 1],
        decided: 'refused',
        reason: 'Not signed yet.',
      },
      {
        who: 'Northgate Drainage',
        mail: 'works@northgate.example',
        hoursAgo: 100,
        files: ['certificate', 3],
        decided: 'accepted',
      },
    ],
  },
  {
    ...{ title: 'Levels of the week', by: 'tomas', folder: `${P}/Hartop yard`, straight: true },
    ...{ message: 'One file for each day.', opens: null, closes: null, made: -40 },
    deposits: [
      { who: 'Leo', hoursAgo: 6, files: ['swelling', 2] },
      { who: 'Leo', hoursAgo: 30, files: ['levels', 3], decided: 'accepted' },
      { who: 'Leo', hoursAgo: 200, files: ['levels', 3], decided: 'accepted' },
    ],
  },
  {
    ...{ title: 'Tender returns', by: 'iris', folder: 'Tenders', message: 'Sealed until the day of opening.' },
    ...{ opens: 6, closes: 13, made: -2, password: true, deposits: [] },
  },
  {
    ...{ title: 'Quarry access consents', by: 'rosa', folder: `${P}/Quarry access`, message: '' },
    ...{ opens: null, closes: 20, made: -6, kinds: ['pdf'] },
    deposits: [
      {
        who: 'Parish office',
        mail: 'clerk@parish.example',
        hoursAgo: 50,
        files: ['certificate', 1],
        decided: 'accepted',
      },
    ],
  },
  {
    ...{ title: 'Drone passes, Saltings bridge', by: 'sam', folder: `${P}/Saltings bridge`, message: '' },
    ...{ opens: null, closes: 2, made: -9, deposits: [] },
  },
  {
    ...{ title: 'Insurance 2027', by: 'ada', folder: 'Office', message: 'Cover notes, please.' },
    ...{ opens: null, closes: -4, made: -30, kinds: ['pdf'] },
    deposits: [
      {
        who: 'Harbour Mutual',
        mail: 'desk@harbour.example',
        hoursAgo: 150,
        files: ['certificate', 4],
        decided: 'accepted',
      },
    ],
  },
  {
    ...{ title: 'Open day photographs', by: 'bram', folder: 'Office/Open day', message: '' },
    ...{ opens: null, closes: -60, made: -74, kinds: ['picture'] },
    deposits: [{ who: 'Visitors', hoursAgo: 70 * 24, files: ['photographs', 5], decided: 'accepted' }],
  },
  {
    ...{ title: 'Forecourt as built', by: 'noel', folder: `${P}/Station forecourt`, message: '' },
    ...{ opens: null, closes: -20, made: -34, deposits: [] },
  },
  {
    ...{ title: 'Old survey data', by: 'iris', folder: 'Office', message: 'Whatever you still have.' },
    ...{ opens: null, closes: 30, made: -15, withdrawn: -8, deposits: [] },
  },
];

export interface IntakesOf {
  tx: EntityManager;
  random: Random;
  now: number;
  blobs: BlobStore;
  sealingKey: Buffer;
  people: ReadonlyMap<string, string>;
  nodes: ReadonlyMap<string, string>;
  ledger: { at: number; entry: NewEntry }[];
}

/** On the full minute, as people choose it. */
const minuteOf = (at: number): Date => new Date(at - (at % 60_000));

export async function loadIntakes(l: IntakesOf, passwordHash: string): Promise<void> {
  for (const intake of INTAKES) await loadIntake(l, intake, passwordHash);
}

const QUESTIONS: IntakeQuestions = { name: 'may', mail: 'may', firm: 'may', own: [] };

async function loadIntake(l: IntakesOf, intake: DemoIntake, passwordHash: string): Promise<void> {
  const made = l.now + intake.made * DAY_MS;
  const [id, token] = [l.random.uuid(made), tokenFromBytes(l.random.bytes(16))];
  const folderId = l.nodes.get(intake.folder);
  if (!folderId) throw new Error(`The demo has no folder ${intake.folder}.`);
  const by = l.people.get(intake.by) as string;
  const moment = (days: number | null | undefined) =>
    days === null || days === undefined ? null : minuteOf(l.now + days * DAY_MS);
  const limits = { ...INTAKE_LIMITS, kinds: intake.kinds ?? null };
  await l.tx.query(
    `INSERT INTO intake (id, title, message, token_hash, token_sealed, address_id, password_hash, opens_at, closes_at,
       withdrawn_at, created_at, created_by, folder_id, waits, folder_pattern, limits, questions, receipt_by_mail,
       audience, remind_days)
     VALUES ($1, $2, $3, $4, $5, (SELECT id FROM address ORDER BY way_in = 'mapping' DESC, is_default DESC LIMIT 1),
       $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, true, $17, $18)`,
    [
      ...[id, intake.title, intake.message, secretHash(token), seal(l.sealingKey, token)],
      ...[intake.password ? passwordHash : null, moment(intake.opens), moment(intake.closes)],
      ...[moment(intake.withdrawn), minuteOf(made), by, folderId, !intake.straight],
      ...[intake.straight ? null : '{{date}} {{name}}', JSON.stringify(limits), JSON.stringify(QUESTIONS)],
      ...[intake.listed ? 'listed' : 'anyone', intake.remindDays ?? null],
    ],
  );
  await l.tx.query(
    `INSERT INTO intake_recipient (intake_id, blocked, kind, value) SELECT $1, false, 'address', unnest($2::text[])`,
    [id, intake.listed ?? []],
  );
  const [{ name: byName } = { name: '' }] = await l.tx.query<{ name: string }[]>(
    'SELECT name FROM person WHERE id = $1',
    [by],
  );
  const asker = { kind: 'person' as const, id: by, name: byName };
  const told = (at: number, kind: string, actor: NewEntry['actor'], detail: NewEntry['detail']) =>
    l.ledger.push({
      at,
      entry: { kind, actor, nodeId: folderId, detail: { title: intake.title, intake: id, ...detail } },
    });
  told(made, 'intake.opened', asker, { password: Boolean(intake.password), waits: !intake.straight });
  if (intake.withdrawn !== undefined) told(l.now + intake.withdrawn * DAY_MS, 'intake.withdrawn', asker, {});
  const known = new Map<string, string>();
  // The first of a contributor stands for all of theirs.
  for (const deposit of [...intake.deposits].sort((a, b) => b.hoursAgo - a.hoursAgo))
    await loadDeposit(
      l,
      { id, title: intake.title, by, folderId, isStraight: intake.straight ?? false, isListed: Boolean(intake.listed) },
      deposit,
      known,
      (at, kind, detail, actor) => told(at, kind, actor ?? asker, detail),
    );
}

interface IntakeOf {
  id: string;
  title: string;
  by: string;
  folderId: string;
  isStraight: boolean;
  /** Contributors have proven their addresses. */
  isListed: boolean;
}

async function loadDeposit(
  l: IntakesOf,
  intake: IntakeOf,
  deposit: DemoDeposit,
  known: Map<string, string>,
  tell: (at: number, kind: string, detail: NewEntry['detail'], actor?: NewEntry['actor']) => void,
): Promise<void> {
  const at = l.now - deposit.hoursAgo * HOUR_MS;
  const id = l.random.uuid(at);
  const contributorId = known.get(deposit.who) ?? id;
  known.set(deposit.who, contributorId);
  const [number, key] = [receiptNumber(l.random.bytes(RECEIPT_BYTES)), l.random.bytes(24).toString('base64url')];
  const files = await filesOf(l, deposit, at);
  const bytes = files.reduce((sum, f) => sum + f.content.length, 0);
  const decided = deposit.decided ?? null;
  const receipt = {
    ...{ number, title: intake.title, office: 'Saltmarsh Survey', at: new Date(at).toISOString(), name: deposit.who },
    files: files.map(({ path, content, sha256 }) => ({
      path,
      sizeBytes: content.length,
      sha256: sha256.toString('hex'),
    })),
  };
  const hash = createHash('sha256').update(receiptText(receipt)).digest();
  await l.tx.query(`INSERT INTO actor (id, kind, name) VALUES ($1, 'visitor', $2) ON CONFLICT (id) DO NOTHING`, [
    contributorId,
    deposit.who,
  ]);
  const decidedAt = decided && new Date(Math.min(l.now - HOUR_MS, at + 2 * HOUR_MS));
  await l.tx.query(
    `INSERT INTO deposit (id, intake_id, contributor_id, number, cookie_hash, receipt_key_hash, receipt_key_sealed,
       receipt_hash, began_at, touched_at, handed_in_at, state, answers, who, actor_id, from_address, files, bytes,
       decided_at, decided_by, reason, recipient)
     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $10, $11, $12, $13, $3, $14, $15, $16, $17, $18, $19, $20)`,
    [
      ...[id, intake.id, contributorId, number, secretHash(l.random.bytes(24).toString('hex')), secretHash(key)],
      ...[seal(l.sealingKey, key), hash, new Date(at - HOUR_MS / 4), new Date(at), depositState([decided])],
      JSON.stringify({ name: deposit.who, mail: deposit.mail ?? '', firm: deposit.firm ?? '', own: {} }),
      ...[deposit.who, `203.0.113.${l.random.whole(20, 90)}`, files.length, bytes],
      ...[decidedAt, decided && !intake.isStraight ? intake.by : null, deposit.reason ?? ''],
      intake.isListed ? (deposit.mail ?? null) : null,
    ],
  );
  for (const file of files) await loadFile(l, intake, { depositId: id, at, decided }, file);
  if (decided !== 'refused')
    await l.tx.query('UPDATE intake SET taken_bytes = taken_bytes + $2 WHERE id = $1', [intake.id, bytes]);
  const actor = { kind: 'visitor' as const, id: contributorId, name: deposit.who };
  const detail = { number, files: files.length, sizeBytes: bytes, receipt: hash.toString('hex') };
  tell(at, 'deposit.handed-in', detail, actor);
  if (deposit.asked !== undefined) {
    const askedAt = at + HOUR_MS;
    await l.tx.query(
      'INSERT INTO deposit_question (id, deposit_id, words, asked_at, asked_by) VALUES ($1, $2, $3, $4, $5)',
      [l.random.uuid(askedAt), id, deposit.asked, new Date(askedAt), intake.by],
    );
    tell(askedAt, 'deposit.asked', { number, words: deposit.asked });
  }
  if (decided && decidedAt)
    tell(decidedAt.getTime(), `deposit.${decided}`, { number, files: files.length, reason: deposit.reason ?? '' });
}

/** Larger than any disk would like it, and almost nothing while it is packed. */
const SWELLS_TO = 60_000_000;
const ONE_FILE = { entries: 1, depth: 1, lies: false };

interface SampleFile {
  path: string;
  content: Buffer;
  sha256: Buffer;
  media: string | null;
  /** What the scanner found; empty: nothing. */
  finding: string;
  /** What is against unpacking it; null: nothing. */
  fault: string | null;
}

async function filesOf(l: IntakesOf, { files: [sample, count] }: DemoDeposit, at: number): Promise<SampleFile[]> {
  const made: SampleFile[] = [];
  const add = (
    path: string,
    content: Buffer,
    media: string | null,
    { finding = '', fault = null as string | null } = {},
  ) => made.push({ path, content, media, finding, fault, sha256: createHash('sha256').update(content).digest() });
  for (let n = 1; n <= count; n += 1)
    if (sample === 'photographs' || sample === 'disguised')
      add(
        `Day ${1 + (n % 3)}/site ${String(n).padStart(3, '0')}.jpg`,
        await photograph(l.random, 640, 480),
        'image/jpeg',
      );
    else if (sample === 'certificate' || sample === 'infected')
      add(`Certificate ${n}.pdf`, await drawing(l.random, `Certificate ${n}`, new Date(at)), 'application/pdf');
    else add(`Levels day ${n}.csv`, csv(l.random, 40), null);
  // A program (PE/COFF begins with MZ) that is called a picture.
  if (sample === 'disguised')
    add('site.jpg', Buffer.concat([Buffer.from('MZ'), l.random.bytes(4000)]), 'application/x-msdownload');
  // As the scanner of the outside world calls the test file of scanners; the bytes here are only called so.
  if (sample === 'infected')
    add('Cover letter.pdf', l.random.bytes(900), 'application/pdf', { finding: 'Quay.Test.Signature' });
  if (sample === 'swelling') {
    const content = gzipSync(Buffer.alloc(SWELLS_TO));
    const fault = archiveFault({ ...ONE_FILE, bytes: content.length, unpackedBytes: SWELLS_TO });
    add('Survey 2019.gz', content, 'application/gzip', { fault });
  }
  return made;
}

async function loadFile(
  l: IntakesOf,
  intake: IntakeOf,
  { depositId, at, decided }: { depositId: string; at: number; decided: 'accepted' | 'refused' | null },
  { path, content, sha256, media, finding, fault }: SampleFile,
): Promise<void> {
  const id = l.random.uuid(at);
  const within = { fault, untold: null, isAlsoArchive: false };
  const { verdict, words } = contentVerdict(path.split('/').at(-1) as string, media, within);
  if (decided === null) {
    const blob = await l.blobs.put(Readable.from([content]), null);
    await l.tx.query(
      'INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING',
      [blob.sha256, blob.sizeBytes, blob.crc32, new Date(at)],
    );
  }
  await l.tx.query(
    `INSERT INTO deposit_file (id, deposit_id, path, size_bytes, offset_bytes, created_at, sha256, blob_sha256, media,
       verdict, verdict_words, scan, finding, decided) VALUES ($1, $2, $3, $4, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
    [
      ...[id, depositId, path, content.length, new Date(at - HOUR_MS / 4), sha256, decided === null ? sha256 : null],
      ...[media, verdict, words],
      ...[finding === '' ? 'clean' : 'found', finding, decided],
    ],
  );
  if (decided === null)
    await l.tx.query(
      `INSERT INTO room_held (id, person_id, store_id, deposit_file_id, held_bytes, written_bytes)
        SELECT $1, $2, store_id, $1, $4, $4 FROM node WHERE id = $3`,
      [id, intake.by, intake.folderId, content.length],
    );
}
