import { Controller, Get, Inject, UseGuards } from '@nestjs/common';
import { leftToDo } from '@quay/core';
import type { LeftToDo } from '@quay/contract';
import { DataSource } from 'typeorm';
import { FactorService } from '../people/factor.service.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { CONFIG, type Config } from '../platform/config.js';
import { For } from '../platform/for.js';
import { hasMailWay } from '../platform/mail-server.js';
import { Office } from '../platform/office.js';
import { ApiPart, Operation } from '../platform/openapi.js';

@ApiPart('setup')
@Controller('api/office')
export class LeftController {
  constructor(
    private readonly db: DataSource,
    private readonly office: Office,
    private readonly factor: FactorService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  @Get('left')
  @For('run-server')
  @UseGuards(SignedInGuard)
  @Operation('What is left to do until the office has what it needs')
  async left(@Me() who: Who): Promise<LeftToDo> {
    const [mail, addresses, offersFactor, [has]] = await Promise.all([
      hasMailWay(this.db.manager, this.config),
      this.office.addresses(),
      this.factor.isOpen(who),
      this.db.query<{ files: boolean; shares: boolean; backups: boolean; inside: boolean | null }[]>(
        `SELECT EXISTS (SELECT 1 FROM file_version) AS files, EXISTS (SELECT 1 FROM share) AS shares,
           EXISTS (SELECT 1 FROM backup_place) AS backups,
           (SELECT inside_only FROM office) AS inside`,
      ),
    ]);
    const reached = addresses.some((address) => address.reach === 'ok' || address.reach === 'warn');
    return {
      left: leftToDo({
        mail,
        reached,
        insideOnly: has?.inside ?? false,
        files: has?.files ?? false,
        shares: has?.shares ?? false,
        backups: has?.backups ?? false,
        factor: !offersFactor,
      }),
    };
  }
}
