import { Injectable } from '@nestjs/common';
import { actBits, countOf, fillForecast, policyWords, type Weight } from '@quay/core';
import type {
  Litter,
  LitterItem,
  PersonQuota,
  StoreGrowth,
  StorePolicyText,
  StoreUsage,
  UsagePart,
} from '@quay/contract';
import { DataSource } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { setPersonQuota } from '../people/people.queries.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { grouped } from '../platform/grouped.js';
import { notFound } from '../platform/problems/problem.js';
import { bitsOn, countSeen, entrancesOf, storesSeenWhole, walkDown } from '../access/access.queries.js';
import { AccessService } from '../access/access.service.js';
import { AdmissionService, type StoreRules } from './admission.service.js';
import { actorOf } from './names.js';
import { RoomService } from './room.service.js';
import { StoresService } from './stores.service.js';
import { LIVE } from '../access/tree.queries.js';
import { weightsOf, wholeWeights } from './weights.queries.js';

const LEVELS_SHOWN = 3;
/** Folders of one folder that are shown by themselves, the heaviest. */
const MOST_FOLDERS = 200;
/** From the rows called `down` to the folders in them that are shown, called `n`. */
const LARGEST_FOLDERS = `down CROSS JOIN LATERAL (
  SELECT c.* FROM node c LEFT JOIN folder_weight w ON w.folder_id = c.id
   WHERE c.parent_id = down.id AND ${LIVE} AND c.kind = 'folder'
   ORDER BY coalesce(w.bytes + w.litter_bytes, 0) DESC LIMIT ${MOST_FOLDERS}) n`;
const POLICY_WORDS: Record<keyof StorePolicyText, string> = {
  quotaBytes: 'quota',
  largestFileBytes: 'largest file',
  allowedTypes: 'types',
  versionsKept: 'versions kept',
  thinAfterDays: 'thinning of versions',
  trashDays: 'days in the trash',
};

/** What fills a store, what its rules are, and when it will be full. */
/** Left behind items that are named, so that somebody can throw them away; of more it is told how many. */
const MOST_LITTER = 2000;

@Injectable()
export class UsageService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly admission: AdmissionService,
    private readonly rooms: RoomService,
    private readonly stores: StoresService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  async usage(who: Who, storeId: string): Promise<StoreUsage> {
    await this.access.requireSomewhere(who, storeId, 'see');
    const [rules, stores, told] = await Promise.all([
      this.admission.rules(storeId),
      this.stores.stores(who),
      storesSeenWhole(this.db.manager, who.personId, [storeId]),
    ]);
    const store = stores.find((s) => s.id === storeId);
    if (!store) throw notFound('This store');
    const whole = told.has(storeId);
    return {
      store,
      policy: {
        quotaBytes: rules.quotaBytes,
        largestFileBytes: rules.largestFileBytes,
        allowedTypes: [...rules.allowedTypes],
        versionsKept: rules.versionsKept,
        thinAfterDays: rules.thinAfterDays,
        trashDays: rules.trashDays,
      },
      policyWords: policyWords(rules),
      tree: await this.tree(who, storeId, whole),
      growth: whole ? await this.growth(storeId, rules) : null,
    };
  }

  /** How a store grows and who brought what: for those who see all of it. */
  private async growth(storeId: string, rules: StoreRules): Promise<StoreGrowth> {
    const [samples, people, free] = await Promise.all([
      this.samples(storeId),
      this.people(storeId),
      this.rooms.diskFree(),
    ]);
    const quotaFirst = rules.quotaBytes !== null && rules.quotaBytes - rules.usedBytes <= free;
    const capacityBytes = quotaFirst ? (rules.quotaBytes as number) : rules.usedBytes + free;
    const now = this.clock.now();
    const history = samples.map((s) => ({ at: Date.parse(s.day), usedBytes: s.usedBytes }));
    const forecast = fillForecast([...history, { at: now, usedBytes: rules.usedBytes }], capacityBytes, now);
    const text = (at: number | null) => (at === null || at > 8.64e15 ? null : new Date(at).toISOString());
    return {
      samples,
      people,
      capacityBytes,
      capacityOf: quotaFirst ? 'quota' : 'disk',
      forecast: forecast && {
        bytesPerDay: forecast.bytesPerDay,
        fullAt: text(forecast.fullAt),
        earliest: text(forecast.earliest),
        latest: text(forecast.latest),
      },
    };
  }

  async changePolicy(who: Who, storeId: string, asked: Partial<StorePolicyText>): Promise<void> {
    await this.access.requireStore(who, storeId, 'manage');
    // Whoever owns a home store does not lift its limits.
    if ('quotaBytes' in asked) requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      const [store] = await tx.query<{ name: string }[]>('SELECT name FROM store WHERE id = $1 FOR UPDATE', [storeId]);
      const now = { ...(await this.admission.rules(storeId, tx)), ...asked };
      await tx.query(
        `UPDATE store SET quota_bytes = $2, largest_file_bytes = $3, allowed_types = $4, versions_kept = $5,
          thin_after_days = $6, trash_days = $7 WHERE id = $1`,
        [
          storeId,
          now.quotaBytes,
          now.largestFileBytes,
          now.allowedTypes,
          now.versionsKept,
          now.thinAfterDays,
          now.trashDays,
        ],
      );
      await this.events.tell(tx, { topic: 'store', id: storeId });
      await this.ledger.append(tx, {
        kind: 'store.policy',
        actor: actorOf(who),
        detail: {
          store: store?.name ?? '',
          what: (Object.keys(asked) as (keyof StorePolicyText)[]).map((k) => POLICY_WORDS[k]).join(', '),
        },
      });
    });
  }

  /** What desktop systems left behind in a store. */
  async litter(who: Who, storeId: string): Promise<Litter> {
    await this.access.requireSomewhere(who, storeId, 'remove');
    const rows = await this.db.query<(LitterItem & { total: number; totalBytes: number })[]>(
      `SELECT n.id, n.name, n.kind, n.size_bytes::float8 AS "sizeBytes", parent.name AS place,
              count(*) OVER ()::int AS total, sum(n.size_bytes) OVER ()::float8 AS "totalBytes"
         FROM node n JOIN node parent ON parent.id = n.parent_id
        WHERE n.store_id = $1 AND n.litter AND n.trashed_at IS NULL AND NOT parent.litter
          AND (${bitsOn('n', '$2')} & ${actBits(['remove'])}) <> 0
        ORDER BY parent.name COLLATE natural_order, n.name LIMIT ${MOST_LITTER}`,
      [storeId, who.personId],
    );
    const [{ total, totalBytes } = { total: 0, totalBytes: 0 }] = rows;
    return { items: rows.map(({ total: _, totalBytes: __, ...item }) => item), total, totalBytes };
  }

  async quotas(): Promise<PersonQuota[]> {
    const rows = await this.db.query<{ id: string; name: string; used: string; quota: string | null }[]>(
      'SELECT id, name, used_bytes AS used, quota_bytes AS quota FROM person WHERE disabled_at IS NULL ORDER BY name',
    );
    return rows.map((r) => ({
      id: r.id,
      name: r.name,
      usedBytes: Number(r.used),
      quotaBytes: r.quota === null ? null : Number(r.quota),
    }));
  }

  /** What somebody uses over all stores, and may. */
  async own(who: Who): Promise<PersonQuota> {
    const [row] = await this.db.query<{ id: string; name: string; used: string; quota: string | null }[]>(
      'SELECT id, name, used_bytes AS used, quota_bytes AS quota FROM person WHERE id = $1',
      [who.personId],
    );
    if (!row) throw notFound('This person');
    return {
      id: row.id,
      name: row.name,
      usedBytes: Number(row.used),
      quotaBytes: row.quota === null ? null : Number(row.quota),
    };
  }

  /** The names of colleagues, for choosing one. */
  colleagues(): Promise<{ id: string; name: string }[]> {
    return this.db.query('SELECT id, name FROM person WHERE disabled_at IS NULL ORDER BY name');
  }

  async setQuota(who: Who, personId: string, quotaBytes: number | null): Promise<void> {
    await this.events.change(async (tx) => {
      const name = await setPersonQuota(tx, personId, quotaBytes);
      if (name === null) throw notFound('This person');
      await this.ledger.append(tx, {
        kind: 'person.quota',
        actor: actorOf(who),
        detail: { name, quotaBytes },
      });
    });
  }

  /** One sample of every store for today; the later one of a day counts. */
  async sample(): Promise<void> {
    await this.db.query(
      `INSERT INTO usage_sample (store_id, day, used_bytes) SELECT id, $1::date, used_bytes FROM store
        ON CONFLICT (store_id, day) DO UPDATE SET used_bytes = excluded.used_bytes`,
      [this.clock.date()],
    );
  }

  private async samples(storeId: string): Promise<StoreGrowth['samples']> {
    const rows = await this.db.query<{ day: string; used: string }[]>(
      `SELECT to_char(day, 'YYYY-MM-DD') AS day, used_bytes AS used FROM usage_sample WHERE store_id = $1
        ORDER BY day DESC LIMIT 120`,
      [storeId],
    );
    return rows.reverse().map((r) => ({ day: r.day, usedBytes: Number(r.used) }));
  }

  private async people(storeId: string): Promise<StoreGrowth['people']> {
    const rows = await this.db.query<{ name: string; used: string }[]>(
      `SELECT p.name, sum(b.size_bytes) AS used FROM store_blob b JOIN person p ON p.id = b.person_id
        WHERE b.store_id = $1 GROUP BY p.name ORDER BY used DESC`,
      [storeId],
    );
    return rows.map((r) => ({ name: r.name, usedBytes: Number(r.used) }));
  }

  /**
   * Bytes by folder, three levels deep, as far as they are seen; earlier versions and trash apart where all is told,
   * so that the parts add up.
   */
  private async tree(who: Who, storeId: string, whole: boolean): Promise<UsagePart> {
    const walk = walkDown('$2', actBits(['see']));
    const tops = (await entrancesOf(this.db.manager, who.personId)).filter((e) => e.storeId === storeId);
    const rows = await this.db.query<{ id: string; parent: string | null; name: string }[]>(
      `WITH RECURSIVE down AS (
         SELECT n.id, NULL::uuid AS parent, n.name, n.kind, 0 AS depth, ${walk.begin} FROM node n WHERE n.id = ANY($1)
         UNION ALL
         SELECT n.id, n.parent_id, n.name, n.kind, down.depth + 1, ${walk.below}
           FROM ${LARGEST_FOLDERS} ${walk.step} WHERE ${walk.goesOn} AND down.depth < ${LEVELS_SHOWN}
       ) SELECT id, parent, name FROM down WHERE ${walk.allowed} ORDER BY depth`,
      [tops.map((t) => t.folderId), who.personId],
    );
    const [weights, smaller] = [await this.weightsHere(who, rows), await this.smallerFolders(who, rows)];
    const parts = new Map<string, UsagePart>();
    const roots: UsagePart[] = [];
    for (const row of rows) {
      const part: UsagePart = { id: row.id, name: row.name, kind: 'folder', bytes: 0, files: 0, children: [] };
      parts.set(row.id, part);
      const here = weights.get(row.id) ?? { files: 0, bytes: 0 };
      const more = smaller.get(row.id) ?? 0;
      const name = more > 0 ? `Files here, and ${countOf(more, 'smaller folder')}` : 'Files here';
      if (here.bytes > 0) part.children.push({ ...partOf(`${row.id}-files`, name, 'files'), ...here });
      if (row.parent === null) roots.push(part);
      else parts.get(row.parent)?.children.push(part);
    }
    const root = roots.length === 1 ? (roots[0] as UsagePart) : { ...partOf('all', 'All', 'folder'), children: roots };
    if (roots.length === 0) throw notFound('This store');
    const present = summed(root);
    if (!whole) return present;
    root.children.push(...(await this.beside(storeId, present)));
    return summed(root);
  }

  /** How many folders that somebody sees are not shown by themselves, of those that hold more than are. */
  private async smallerFolders(who: Who, shown: { parent: string | null }[]): Promise<Map<string, number>> {
    const children = grouped(shown, (row) => row.parent ?? '');
    // Some of those that were looked at may be closed to whoever asks; they are few.
    const full = [...children].filter(([, list]) => list.length * 2 > MOST_FOLDERS).map(([id]) => id);
    if (full.length === 0) return new Map();
    const rows = await this.db.query<{ id: string; count: number }[]>(
      `SELECT asked.id, ${countSeen('asked.id', '$2', "c.kind = 'folder'")} AS count
        FROM unnest($1::uuid[]) AS asked (id)`,
      [full, who.personId],
    );
    return new Map(rows.map(({ id, count }) => [id, count - (children.get(id)?.length ?? 0)]));
  }

  /** What folders hold beside those of their folders that are among these too. */
  private async weightsHere(who: Who, folders: { id: string; parent: string | null }[]): Promise<Map<string, Weight>> {
    const ids = folders.map((f) => f.id);
    const weights = await weightsOf(this.db.manager, who.personId, ids, { litter: true });
    const here = new Map([...weights].map(([id, weight]) => [id, { ...weight }]));
    for (const { id, parent } of folders) {
      const [inside, around] = [weights.get(id), parent === null ? undefined : here.get(parent)];
      if (!inside || !around) continue;
      around.files -= inside.files;
      around.bytes -= inside.bytes;
    }
    return here;
  }

  /**
   * What a store holds beside the present files that somebody sees. All versions and what folders weigh are kept; what
   * is in the trash is what was put there, files by their size and folders by their weight. Earlier versions are all
   * that is left.
   */
  private async beside(storeId: string, seen: Weight): Promise<UsagePart[]> {
    const [row] = await this.db.query<{ rootId: string; files: number; bytes: number }[]>(
      `SELECT n.id AS "rootId", s.versions::float8 AS files, s.version_bytes::float8 AS bytes
         FROM store s JOIN node n ON n.store_id = s.id AND n.parent_id IS NULL WHERE s.id = $1`,
      [storeId],
    );
    if (!row) return [];
    const lost = await this.db.query<{ id: string; kind: 'folder' | 'file'; bytes: number }[]>(
      `SELECT id, kind, size_bytes::float8 AS bytes FROM node
        WHERE store_id = $1 AND trashed_at IS NOT NULL AND purged_at IS NULL`,
      [storeId],
    );
    const folders = lost.filter((n) => n.kind === 'folder').map((n) => n.id);
    const weights = await wholeWeights(this.db.manager, [row.rootId, ...folders]);
    const present = weights.get(row.rootId) ?? { files: 0, bytes: 0 };
    const trash = { files: 0, bytes: 0 };
    for (const { id, kind, bytes } of lost) {
      const weight = kind === 'file' ? { files: 1, bytes } : weights.get(id);
      if (weight) add(trash, weight, 1);
    }
    const [versions, closed] = [{ files: row.files, bytes: row.bytes }, { ...present }];
    for (const part of [present, trash]) add(versions, part, -1);
    add(closed, seen, -1);
    return [
      { ...partOf('versions', 'Earlier versions', 'versions'), ...versions },
      { ...partOf('trash', 'Trash', 'trash'), ...trash },
      { ...partOf('closed', 'In folders closed to you', 'files'), ...closed },
    ].filter((part) => part.bytes > 0);
  }
}

function add(to: Weight, more: Weight, sign: 1 | -1): void {
  to.files += sign * more.files;
  to.bytes += sign * more.bytes;
}

const partOf = (id: string, name: string, kind: UsagePart['kind']): UsagePart => ({
  id,
  name,
  kind,
  bytes: 0,
  files: 0,
  children: [],
});

function summed(part: UsagePart): UsagePart {
  const children = part.children
    .map(summed)
    .filter((c) => c.bytes > 0)
    .sort((a, b) => b.bytes - a.bytes);
  // A folder that holds nothing but files is one part, not a part within a part.
  const own = part.kind === 'folder' && children.length === 1 && children[0]?.kind === 'files' ? [] : children;
  return {
    ...part,
    children: own,
    bytes: part.bytes + children.reduce((sum, c) => sum + c.bytes, 0),
    files: part.files + children.reduce((sum, c) => sum + c.files, 0),
  };
}
