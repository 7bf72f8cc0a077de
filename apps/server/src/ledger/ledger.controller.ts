import { Controller, Get, Query, Res, UseGuards } from '@nestjs/common';
import { ledgerQuerySchema, type ChainAnswer, type LedgerPage } from '@quay/contract';
import type { Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { hasDuty } from '../people/duties.js';
import { Me, type Who } from '../people/who.js';
import { drained } from '../platform/drained.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { LedgerService } from './ledger.service.js';

@ApiPart('ledger')
@UseGuards(SignedInGuard)
@Controller('api/ledger')
export class LedgerController {
  constructor(private readonly ledger: LedgerService) {}

  @Get()
  @For('signed-in')
  @Operation('Entries, newest first: the admin sees all, staff what concerns them', undefined, ledgerQuerySchema)
  page(
    @Me() who: Who,
    @Query(valid(ledgerQuerySchema)) query: { before?: number; limit: number; kind?: string; find?: string },
  ): Promise<LedgerPage> {
    return this.ledger.page({ ...query, concerning: hasDuty(who, 'see-ledger') ? undefined : who.personId });
  }

  @Get('chain')
  @For('see-ledger')
  @Operation('Verify the chain from its first entry (admin)')
  verify(): Promise<ChainAnswer> {
    return this.ledger.verify();
  }

  @Get('export')
  @For('see-ledger')
  @Operation('The whole chain as JSON Lines (admin)')
  async export(@Res() res: Response): Promise<void> {
    res.setHeader('Content-Type', 'application/jsonl');
    res.setHeader('Content-Disposition', 'attachment; filename="ledger.jsonl"');
    for await (const lines of this.ledger.exportLines()) {
      if (res.destroyed) return;
      if (!res.write(lines)) await drained(res);
    }
    res.end();
  }
}
