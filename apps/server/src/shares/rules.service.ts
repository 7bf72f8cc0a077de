import { Injectable } from '@nestjs/common';
import type { ShareRules } from '@quay/contract';
import { listedText, someNames } from '@quay/core';
import { DataSource } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Events } from '../platform/events/events.js';
import { actorOf } from '../stores/names.js';
import { entriesOf } from './audience.js';
import { officeBlock, setOfficeBlock } from './audience.queries.js';

/** What holds for all shares of the office. */
@Injectable()
export class ShareRulesService {
  constructor(
    private readonly db: DataSource,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  async rules(): Promise<ShareRules> {
    return { blocked: (await officeBlock(this.db.manager)).map(listedText) };
  }

  /** Takes effect at once, also on pages that are open. @throws Problem duty.missing, audience.entry */
  async change(who: Who, asked: ShareRules): Promise<ShareRules> {
    requireDuty(who, 'run-server');
    const blocked = entriesOf('blocked', asked.blocked);
    await this.events.change(async (tx) => {
      await tx.query('LOCK TABLE office_block IN SHARE ROW EXCLUSIVE MODE');
      const before = (await officeBlock(tx)).map(listedText);
      const after = blocked.map(listedText);
      const added = after.filter((text) => !before.includes(text));
      const takenOff = before.filter((text) => !after.includes(text));
      if (added.length + takenOff.length === 0) return;
      await setOfficeBlock(tx, blocked);
      await this.events.tell(tx, { topic: 'access', id: 'changed' });
      const detail = { added: someNames(added), takenOff: someNames(takenOff) };
      await this.ledger.append(tx, { kind: 'office.blocked', actor: actorOf(who), detail });
    });
    return this.rules();
  }
}
