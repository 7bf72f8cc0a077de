import { Injectable } from '@nestjs/common';
import { nameKey } from '@quay/core';
import { MOST_FOUND, type FindAnswer, type FindQuery, type FoundItem } from '@quay/contract';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { invalidField } from '../platform/problems/problem.js';
import { AccessService } from './access.service.js';
import { IS_SEEN, ITEM_COLUMNS, itemFrom, type ItemRow } from './stores.queries.js';

/** Found rows that are looked at before those within the trash are left out and the rest is ranked. */
const CANDIDATES = 400;

/** Finds items by name, tag, kind, size, date and person, in the stores that somebody may see. */
@Injectable()
export class FindService {
  constructor(
    private readonly db: DataSource,
    private readonly access: AccessService,
  ) {}

  async find(who: Who, query: FindQuery): Promise<FindAnswer> {
    const storeIds = await this.visible(who, query.storeId);
    const text = nameKey(query.text ?? '');
    const narrowed =
      text !== '' ||
      query.tagId ||
      query.kind ||
      query.personId ||
      query.minBytes !== undefined ||
      query.maxBytes !== undefined ||
      query.from ||
      query.to;
    if (!narrowed) throw invalidField('text', 'find.nothing', 'Say what to look for: a name, or one of the filters.');
    const bound: unknown[] = [who.personId, storeIds];
    const put = (value: unknown) => `$${bound.push(value)}`;
    const where = ['n.trashed_at IS NULL', 'n.parent_id IS NOT NULL'];
    if (query.inside && text !== '')
      where.push(
        `n.version_id IN (SELECT w.id FROM preview p JOIN file_version w ON w.sha256 = p.sha256 WHERE p.words @@ plainto_tsquery('simple', ${put(text)}))`,
      );
    else for (const word of text.split(/\s+/).filter(Boolean)) where.push(likeCondition(word, put));
    if (query.tagId) where.push(`n.id IN (SELECT node_id FROM node_tag WHERE tag_id = ${put(query.tagId)})`);
    if (query.kind) where.push(`n.class = ${put(query.kind)}`);
    if (query.personId) where.push(`n.changed_by = ${put(query.personId)}`);
    const sized = query.minBytes !== undefined || query.maxBytes !== undefined;
    if (query.minBytes !== undefined) where.push(`n.size_bytes >= ${put(query.minBytes)}`);
    if (query.maxBytes !== undefined) where.push(`n.size_bytes <= ${put(query.maxBytes)}`);
    if (sized || (!query.kind && text === '')) where.push(`n.kind = 'file'`);
    if (query.from) where.push(`n.changed_at >= ${put(new Date(query.from))}`);
    if (query.to) where.push(`n.changed_at < ${put(new Date(query.to))}`);
    const items = await this.rows(
      candidates(
        where.join(' AND '),
        text !== '' || query.tagId !== undefined,
        sized ? 'n.size_bytes' : 'n.changed_at',
      ),
      bound,
      text,
    );
    return { items: items.slice(0, MOST_FOUND), more: items.length > MOST_FOUND };
  }

  /** Files that were changed last, in all stores that somebody may see. */
  async recent(who: Who): Promise<FindAnswer> {
    const storeIds = await this.visible(who);
    const items = await this.rows(
      `SELECT r.id FROM unnest($2::text[]) AS s (id) CROSS JOIN LATERAL (SELECT n.id, n.changed_at FROM node n WHERE n.store_id = s.id::uuid AND n.kind = 'file' AND n.trashed_at IS NULL AND NOT n.litter ORDER BY n.changed_at DESC LIMIT 120) r ORDER BY r.changed_at DESC LIMIT 120`,
      [who.personId, storeIds],
      null,
    );
    return { items: items.slice(0, 100), more: false };
  }

  /** What somebody has pinned, in the order of pinning. */
  async pinned(who: Who): Promise<FindAnswer> {
    const storeIds = await this.visible(who);
    return {
      items: await this.rows(
        'SELECT pin.node_id AS id FROM pin JOIN node n ON n.id = pin.node_id WHERE pin.person_id = $1 AND n.store_id::text = ANY($2::text[]) AND n.trashed_at IS NULL ORDER BY pin.at',
        [who.personId, storeIds],
        null,
      ),
      more: false,
    };
  }

  private async visible(who: Who, only?: string): Promise<string[]> {
    const stores = await this.access.storesAt(who, 'view');
    return only === undefined ? stores : stores.filter((id) => id === only);
  }

  /** The rows of the found ids with their paths; what lies in a trashed folder is left out. `text` ranks them. */
  private async rows(found: string, bound: unknown[], text: string | null): Promise<FoundItem[]> {
    const rows = await this.db.transaction(async (tx) => {
      // Of a common word the planner would read the whole table until it has enough; the index finds them at once.
      await tx.query('SET LOCAL enable_seqscan = off');
      return tx.query<ItemRow<FoundItem>[]>(
        `WITH RECURSIVE found AS MATERIALIZED (SELECT id, row_number() OVER () AS rank FROM (${found}) f), up AS (
         SELECT f.id AS origin, n.parent_id, n.name, n.id, n.trashed_at, 0 AS height FROM found f JOIN node n ON n.id = f.id
         UNION ALL SELECT up.origin, n.parent_id, n.name, n.id, n.trashed_at, up.height + 1 FROM up JOIN node n ON n.id = up.parent_id WHERE up.height < 6000
       ), place AS (
         SELECT origin, bool_and(trashed_at IS NULL) AS live, json_agg(json_build_object('id', id, 'name', name) ORDER BY height DESC) FILTER (WHERE height > 0) AS path FROM up GROUP BY origin
       ) SELECT ${ITEM_COLUMNS}, n.store_id AS "storeId", place.path FROM found f JOIN place ON place.origin = f.id AND place.live JOIN node n ON n.id = f.id WHERE ${IS_SEEN} ORDER BY f.rank`,
        bound,
      );
    });
    const items = rows.map((row) => itemFrom<FoundItem>(row));
    return text
      ? items
          .map((item) => ({ item, rank: rankOf(nameKey(item.name), text) }))
          .sort((a, b) => a.rank - b.rank || a.item.name.localeCompare(b.item.name, 'en', { numeric: true }))
          .map((r) => r.item)
      : items;
  }
}

/**
 * The query for what might be shown. With a name or a tag whatever is found first is ranked afterwards; without, each store
 * is walked along the index of its order (schema-0002), so that a million others cost nothing.
 */
function candidates(where: string, named: boolean, order: string): string {
  // Written so that only the index of names (or tags) can be used: the others would be walked to their end for a rare word.
  if (named)
    return `SELECT n.id FROM node n WHERE n.store_id::text = ANY($2::text[]) AND ${where.replace('n.class =', "n.class || '' =").replace('n.changed_by =', 'n.changed_by::text =')} LIMIT ${CANDIDATES}`;
  return `SELECT f.id FROM unnest($2::text[]) AS s (id) CROSS JOIN LATERAL (SELECT n.id, ${order} AS sort FROM node n WHERE n.store_id = s.id::uuid AND ${where} ORDER BY ${order} DESC LIMIT ${CANDIDATES}) f ORDER BY f.sort DESC LIMIT ${CANDIDATES}`;
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
