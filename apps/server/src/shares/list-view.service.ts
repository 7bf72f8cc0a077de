import { Injectable } from '@nestjs/common';
import type { ShareListView } from '@quay/contract';
import { SHARE_COLUMNS } from '@quay/core';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';

const BEGINS: ShareListView = { columns: [...SHARE_COLUMNS], filters: [] };

/** How somebody likes their list of shares: the columns, and what they ask for often. */
@Injectable()
export class ShareListViewService {
  constructor(private readonly db: DataSource) {}

  async view({ personId }: Who): Promise<ShareListView> {
    const [row] = await this.db.query<{ view: ShareListView }[]>(
      'SELECT view FROM share_list_view WHERE person_id = $1',
      [personId],
    );
    return row?.view ?? BEGINS;
  }

  async keep(who: Who, view: ShareListView): Promise<ShareListView> {
    await this.db.query(
      `INSERT INTO share_list_view (person_id, view) VALUES ($1, $2)
       ON CONFLICT (person_id) DO UPDATE SET view = excluded.view`,
      [who.personId, JSON.stringify(view)],
    );
    return this.view(who);
  }
}
