import { Module } from '@nestjs/common';
import { LiveModule } from '../live/live.module.js';
import { PreviewsModule } from '../previews/previews.module.js';
import { SharesModule } from '../shares/shares.module.js';
import { StoresModule } from '../stores/stores.module.js';
import { TransfersModule } from '../transfers/transfers.module.js';
import { ArchivesService } from './archives.service.js';
import { BringingService } from './bringing.service.js';
import { CopiesService } from './copies.service.js';
import { DoorService } from './door.service.js';
import { LookingService } from './looking.service.js';
import { PagesService } from './pages.service.js';
import { RecipientsService } from './recipients.service.js';
import { RefusalsService } from './refusals.service.js';
import { SeeingController } from './seeing.controller.js';
import { SeeingService } from './seeing.service.js';
import { Takings } from './takings.service.js';
import { VisitsController } from './visits.controller.js';
import { VisitsService } from './visits.service.js';

@Module({
  imports: [PreviewsModule, SharesModule, StoresModule, TransfersModule, LiveModule],
  controllers: [VisitsController, SeeingController],
  providers: [
    VisitsService,
    ArchivesService,
    PagesService,
    BringingService,
    CopiesService,
    DoorService,
    LookingService,
    RecipientsService,
    RefusalsService,
    SeeingService,
    Takings,
  ],
  exports: [VisitsService, SeeingService, RecipientsService],
})
export class VisitsModule {}
