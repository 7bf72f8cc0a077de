import { Controller, Get, Query, Res, UseGuards } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { ledgerQuerySchema, type ChainAnswer, type LedgerPage } from '@quay/contract';
import type { Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { drained } from '../platform/drained.js';
import { For } from '../platform/for.js';
import { Takes } from '../platform/openapi.js';
import { Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { LedgerService } from './ledger.service.js';

@ApiTags('ledger')
@UseGuards(SignedInGuard)
@Controller('api/ledger')
export class LedgerController {
  constructor(private readonly ledger: LedgerService) {}

  @Get()
  @For('signed-in')
  @Takes('Entries, newest first: the admin sees all, staff what concerns them', undefined, ledgerQuerySchema)
  page(
    @Me() who: Who,
    @Query(valid(ledgerQuerySchema)) query: { before?: number; limit: number; kind?: string; find?: string },
  ): Promise<LedgerPage> {
    return this.ledger.page({ ...query, concerning: who.role === 'admin' ? undefined : who.personId });
  }

  @Get('chain')
  @For('admin')
  @Takes('Verify the chain from its first entry (admin)')
  verify(@Me() who: Who): Promise<ChainAnswer> {
    adminOnly(who);
    return this.ledger.verify();
  }

  @Get('export')
  @For('admin')
  @Takes('The whole chain as JSON Lines (admin)')
  async export(@Me() who: Who, @Res() res: Response): Promise<void> {
    adminOnly(who);
    res.setHeader('Content-Type', 'application/jsonl');
    res.setHeader('Content-Disposition', 'attachment; filename="ledger.jsonl"');
    for await (const lines of this.ledger.exportLines()) {
      if (res.destroyed) return;
      if (!res.write(lines)) await drained(res);
    }
    res.end();
  }
}

function adminOnly(who: Who): void {
  if (who.role !== 'admin')
    throw new Problem('forbidden', 'ledger.admin-only', 'Only the admin verifies and exports the whole ledger.');
}
