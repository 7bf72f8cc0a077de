import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import { mailAddressOf } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Office } from '../platform/office.js';
import { SharesService } from '../shares/shares.service.js';
import { handOverSheet } from './sheet.js';

/** The sheet of paper of a share. */
@Injectable()
export class SheetService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly shares: SharesService,
  ) {}

  async of(who: Who, shareId: string): Promise<{ title: string; pdf: Buffer }> {
    const sheet = await this.shares.sheet(who, shareId);
    const [{ zone }, { name: office }, senderMail] = await Promise.all([
      this.office.settings(),
      this.office.toVisitors(),
      mailAddressOf(this.db.manager, who.personId),
    ]);
    const facts = { sheet, office, sender: who.name, senderMail, now: this.clock.now(), zone };
    return { title: sheet.title, pdf: await handOverSheet(facts) };
  }
}
