import { Module } from '@nestjs/common';
import { LiveModule } from '../live/live.module.js';
import { SharesModule } from '../shares/shares.module.js';
import { StoresModule } from '../stores/stores.module.js';
import { TransfersModule } from '../transfers/transfers.module.js';
import { BringingService } from './bringing.service.js';
import { DoorService } from './door.service.js';
import { RecipientsService } from './recipients.service.js';
import { RefusalsService } from './refusals.service.js';
import { Takings } from './takings.service.js';
import { VisitsController } from './visits.controller.js';
import { VisitsService } from './visits.service.js';

@Module({
  imports: [SharesModule, StoresModule, TransfersModule, LiveModule],
  controllers: [VisitsController],
  providers: [VisitsService, BringingService, DoorService, RecipientsService, RefusalsService, Takings],
  exports: [VisitsService],
})
export class VisitsModule {}
