import { Injectable } from '@nestjs/common';
import { nameKey } from '@quay/core';
import { MOST_FOUND, type FindAnswer, type FindQuery, type FoundItem } from '@quay/contract';
import { DataSource } from 'typeorm';
import { entrancesOf, isSeen } from '../access/access.queries.js';
import { AccessService } from '../access/access.service.js';
import type { Who } from '../people/who.js';
import { invalidField } from '../platform/problems/problem.js';
import { ITEM_COLUMNS, itemFrom, type ItemRow } from './listing.queries.js';
import { itemOf, LIVE, stepDown, stepUp } from '../access/tree.queries.js';

/** Found rows that are looked at before those within the trash are left out and the rest is ranked. */
const CANDIDATES = 400;
/** Files that were changed last: so many are looked at, and so many shown. */
const RECENT = { lookedAt: 120, shown: 100 } as const;

/**
 * Where somebody may look: stores that they come into at the top, and folders deeper down where their access begins.
 */
interface Field {
  stores: string[];
  folders: string[];
}

/** Finds items by name, tag, kind, size, date and person, among all that somebody may see. */
@Injectable()
export class FindService {
  constructor(
    private readonly db: DataSource,
    private readonly access: AccessService,
  ) {}

  async find(who: Who, query: FindQuery): Promise<FindAnswer> {
    const text = nameKey(query.text ?? '');
    const { conditions, named, sized, bound } = conditionsOf(who, query, text);
    if (conditions.length === 0)
      throw invalidField('text', 'find.nothing', 'Say what to look for: a name, or one of the filters.');
    if (sized || (!query.kind && text === '')) conditions.push(`n.kind = 'file'`);
    const field = await this.field(who, query.storeId);
    const looking = { field, conditions: ['n.parent_id IS NOT NULL', ...conditions], bound, limit: CANDIDATES };
    const order = sized ? 'n.size_bytes' : 'n.changed_at';
    const items = await this.rows(named ? anyFound(looking) : firstFound(looking, order), bound, text);
    return { items: items.slice(0, MOST_FOUND), more: items.length > MOST_FOUND };
  }

  /** Files that were changed last, wherever somebody may see them. */
  async recent(who: Who): Promise<FindAnswer> {
    const bound: unknown[] = [who.personId];
    const conditions = [`n.kind = 'file'`, 'NOT n.litter'];
    const looking = { field: await this.field(who), conditions, bound, limit: RECENT.lookedAt };
    const items = await this.rows(firstFound(looking, 'n.changed_at'), bound, null);
    return { items: items.slice(0, RECENT.shown), more: false };
  }

  /** What somebody has pinned and still sees, in the order of pinning. */
  async pinned(who: Who): Promise<FindAnswer> {
    await this.access.ensure(who);
    const pins = `SELECT pin.node_id AS id FROM pin JOIN node n ON n.id = pin.node_id
      WHERE pin.person_id = $1 AND n.trashed_at IS NULL AND ${isSeen('n', '$1')} ORDER BY pin.at`;
    return { items: await this.rows(pins, [who.personId], null), more: false };
  }

  private async field(who: Who, onlyStore?: string): Promise<Field> {
    await this.access.ensure(who);
    const entrances = (await entrancesOf(this.db.manager, who.personId)).filter(
      (e) => onlyStore === undefined || e.storeId === onlyStore,
    );
    const stores = entrances.filter((e) => e.whole).map((e) => e.storeId);
    return { stores, folders: entrances.filter((e) => !stores.includes(e.storeId)).map((e) => e.folderId) };
  }

  /** The rows of the found ids with their paths; what lies in a trashed folder is left out. `text` ranks them. */
  private async rows(found: string, bound: unknown[], text: string | null): Promise<FoundItem[]> {
    const rows = await this.db.query<ItemRow<FoundItem>[]>(
      `WITH RECURSIVE found AS MATERIALIZED (SELECT id, row_number() OVER () AS rank FROM (${found}) f), up AS (
           SELECT f.id AS origin, n.parent_id, n.name, n.id, n.trashed_at, 0 AS height
             FROM found f ${itemOf('f.id')}
           UNION ALL
           SELECT up.origin, n.parent_id, n.name, n.id, n.trashed_at, up.height + 1
             FROM ${stepUp()} WHERE up.height < 6000
         ), seen AS (SELECT up.*, ${isSeen('n', '$1')} AS it FROM up ${itemOf('up.id')})
         , place AS (
           SELECT origin, bool_and(trashed_at IS NULL) AS live,
                  coalesce(min(height) FILTER (WHERE NOT it), 2147483647) AS closed_from FROM seen GROUP BY origin
         ) SELECT ${ITEM_COLUMNS}, n.store_id AS "storeId",
                  (SELECT json_agg(json_build_object('id', s.id, 'name', s.name) ORDER BY s.height DESC)
                     FROM seen s WHERE s.origin = n.id AND s.height BETWEEN 1 AND place.closed_from - 1) AS path
             FROM found f JOIN place ON place.origin = f.id AND place.live ${itemOf('f.id')} ORDER BY f.rank`,
      bound,
    );
    for (const row of rows) row.path ??= [];
    const items = rows.map(itemFrom<FoundItem>);
    return text
      ? items
          .map((item) => ({ item, rank: rankOf(nameKey(item.name), text) }))
          .sort((a, b) => a.rank - b.rank || a.item.name.localeCompare(b.item.name, 'en', { numeric: true }))
          .map((r) => r.item)
      : items;
  }
}

/** What a question narrows by, as conditions on a node `n`; $1 of what is bound is who asks. */
function conditionsOf(who: Who, query: FindQuery, text: string) {
  const bound: unknown[] = [who.personId];
  const put = (value: unknown) => `$${bound.push(value)}`;
  const named = text !== '' || query.tagId !== undefined;
  // With a name or a tag, only their indexes must be used: the others would be walked to their end for a rare word.
  const beside = (column: string) => (named ? `${column}::text || ''` : column);
  const conditions: string[] = [];
  if (query.inside && text !== '')
    conditions.push(
      `n.version_id IN (SELECT w.id FROM preview p JOIN file_version w ON w.sha256 = p.sha256
         WHERE p.words @@ plainto_tsquery('simple', ${put(text)}))`,
    );
  else for (const word of text.split(/\s+/).filter(Boolean)) conditions.push(likeCondition(word, put));
  if (query.tagId) conditions.push(`n.id IN (SELECT node_id FROM node_tag WHERE tag_id = ${put(query.tagId)})`);
  if (query.kind) conditions.push(`${beside('n.class')} = ${put(query.kind)}`);
  if (query.personId) conditions.push(`${beside('n.changed_by')} = ${put(query.personId)}`);
  if (query.minBytes !== undefined) conditions.push(`n.size_bytes >= ${put(query.minBytes)}`);
  if (query.maxBytes !== undefined) conditions.push(`n.size_bytes <= ${put(query.maxBytes)}`);
  if (query.from) conditions.push(`n.changed_at >= ${put(new Date(query.from))}`);
  if (query.to) conditions.push(`n.changed_at < ${put(new Date(query.to))}`);
  return { conditions, named, sized: query.minBytes !== undefined || query.maxBytes !== undefined, bound };
}

interface Looking {
  field: Field;
  /** On a node `n`. */
  conditions: string[];
  bound: unknown[];
  limit: number;
}

/** What is found by name or tag, in no order: it is ranked afterwards. */
function anyFound({ field, conditions, bound, limit }: Looking): string {
  const where = ['n.trashed_at IS NULL', ...conditions, isSeen('n', '$1')].join(' AND ');
  const stores = `$${bound.push(field.stores)}::text[]`;
  const below = walkFrom(field, bound);
  return `SELECT id FROM (
      (SELECT n.id FROM node n WHERE n.store_id::text = ANY(${stores}) AND ${where} LIMIT ${limit})
      ${below && `UNION ALL (SELECT n.id FROM ${below} d ${itemOf('d.id')} WHERE ${where} LIMIT ${limit})`}
    ) every LIMIT ${limit}`;
}

/**
 * What comes first in an order. Each store is walked along the index of that order (schema-0002), so that a million
 * others cost nothing; where access begins deeper down, everything there is looked at.
 */
function firstFound({ field, conditions, bound, limit }: Looking, order: string): string {
  const where = ['n.trashed_at IS NULL', ...conditions, isSeen('n', '$1')].join(' AND ');
  const first = `ORDER BY ${order} DESC LIMIT ${limit}`;
  const stores = `$${bound.push(field.stores)}::uuid[]`;
  const below = walkFrom(field, bound);
  return `SELECT id FROM (
      (SELECT f.* FROM unnest(${stores}) AS s (id) CROSS JOIN LATERAL (
         SELECT n.id, ${order} AS sort FROM node n WHERE n.store_id = s.id AND ${where} ${first}) f)
      ${below && `UNION ALL (SELECT n.id, ${order} AS sort FROM ${below} d ${itemOf('d.id')} WHERE ${where} ${first})`}
    ) every ORDER BY sort DESC LIMIT ${limit}`;
}

/** Everything at and below the folders where access begins deeper down; nothing where there is none. */
function walkFrom(field: Field, bound: unknown[]): string {
  if (field.folders.length === 0) return '';
  return `(WITH RECURSIVE down AS (
      SELECT id FROM unnest($${bound.push(field.folders)}::uuid[]) AS f (id)
      -- Where access begins anew below a closed folder, both ways lead there.
      UNION
      SELECT n.id FROM ${stepDown(LIVE)}
    ) SELECT id FROM down)`;
}

// Trigrams find from three letters on; shorter words are looked for at the beginning of names, by another index.
function likeCondition(word: string, put: (value: unknown) => string): string {
  const escaped = word.replace(/[\\%_]/g, '\\$&');
  return [...word].length >= 3 ? `n.name_key LIKE ${put(`%${escaped}%`)}` : `n.name_key LIKE ${put(`${escaped}%`)}`;
}

/** The same name first, then names that begin with the text, then words that do, then the rest. */
function rankOf(key: string, text: string): number {
  if (key === text || key.startsWith(`${text}.`)) return 0;
  if (key.startsWith(text)) return 1;
  return key.includes(` ${text}`) ? 2 : 3;
}
