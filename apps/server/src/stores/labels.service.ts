import { Injectable } from '@nestjs/common';
import type { Tag, TagNodes } from '@quay/contract';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { AccessService } from '../access/access.service.js';

/** Pins, which are one's own, and tags, which the office shares. */
@Injectable()
export class LabelsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly events: Events,
  ) {}

  tags(): Promise<Tag[]> {
    return this.db.query('SELECT id, name, colour FROM tag ORDER BY lower(name)');
  }

  async createTag(asked: Omit<Tag, 'id'>): Promise<Tag> {
    const id = uuidv7();
    await this.unique(() =>
      this.db.query('INSERT INTO tag (id, name, colour) VALUES ($1, $2, $3)', [id, asked.name, asked.colour]),
    );
    return { id, ...asked };
  }

  async changeTag(who: Who, id: string, asked: Partial<Omit<Tag, 'id'>>): Promise<Tag> {
    const [rows] = (await this.unique(() =>
      this.db.query(
        `UPDATE tag SET name = coalesce($2, name), colour = coalesce($3, colour) WHERE id = $1
          RETURNING id, name, colour`,
        [id, asked.name ?? null, asked.colour ?? null],
      ),
    )) as [Tag[], number];
    if (!rows[0]) throw notFound('This tag');
    return rows[0];
  }

  async removeTag(who: Who, id: string): Promise<void> {
    await this.db.query('DELETE FROM tag WHERE id = $1', [id]);
  }

  async tag(who: Who, asked: TagNodes): Promise<void> {
    await this.events.change(async (tx) => {
      const nodes = await this.access.requireNodes(who, asked.nodeIds, 'change', tx);
      const [known] = await tx.query<unknown[]>('SELECT 1 FROM tag WHERE id = $1', [asked.tagId]);
      if (!known) throw notFound('This tag');
      if (asked.on)
        await tx.query('INSERT INTO node_tag (node_id, tag_id) SELECT unnest($1::uuid[]), $2 ON CONFLICT DO NOTHING', [
          asked.nodeIds,
          asked.tagId,
        ]);
      else await tx.query('DELETE FROM node_tag WHERE node_id = ANY($1) AND tag_id = $2', [asked.nodeIds, asked.tagId]);
      for (const id of new Set(nodes.map((n) => n.parentId).filter((p): p is string => p !== null)))
        await this.events.tell(tx, { topic: 'node', id });
    });
  }

  async pin(who: Who, nodeIds: string[], on: boolean): Promise<void> {
    await this.access.requireNodes(who, nodeIds, 'see');
    if (on)
      await this.db.query(
        'INSERT INTO pin (person_id, node_id, at) SELECT $1, unnest($2::uuid[]), $3 ON CONFLICT DO NOTHING',
        [who.personId, nodeIds, this.clock.date()],
      );
    else await this.db.query('DELETE FROM pin WHERE person_id = $1 AND node_id = ANY($2)', [who.personId, nodeIds]);
  }

  private async unique<T>(write: () => Promise<T>): Promise<T> {
    try {
      return await write();
    } catch (error) {
      if ((error as { driverError?: { code?: string } }).driverError?.code === '23505')
        throw new Problem('conflict', 'tag.taken', 'There is a tag of that name already.');
      throw error;
    }
  }
}
