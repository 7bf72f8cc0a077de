import { Module, type OnModuleInit } from '@nestjs/common';
import { Housekeeping } from '../platform/housekeeping.js';
import { AdmissionService } from './admission.service.js';
import { BranchService } from './branch.service.js';
import { FindService } from './find.service.js';
import { LabelsService } from './labels.service.js';
import { PastService } from './past.service.js';
import { PurgeService } from './purge.service.js';
import { RoomService } from './room.service.js';
import { LabelsController, RecoverController, StoresController, UsageController } from './stores.controller.js';
import { StoresService } from './stores.service.js';
import { UsageService } from './usage.service.js';
import { VersionsService } from './versions.service.js';
import { WeightsService } from './weights.service.js';

@Module({
  controllers: [StoresController, RecoverController, LabelsController, UsageController],
  providers: [
    StoresService,
    AdmissionService,
    BranchService,
    FindService,
    LabelsService,
    PastService,
    PurgeService,
    RoomService,
    UsageService,
    VersionsService,
    WeightsService,
  ],
  exports: [StoresService, AdmissionService, PurgeService, RoomService, VersionsService],
})
export class StoresModule implements OnModuleInit {
  constructor(
    private readonly housekeeping: Housekeeping,
    private readonly purger: PurgeService,
    private readonly versions: VersionsService,
    private readonly usage: UsageService,
    private readonly rooms: RoomService,
  ) {}

  onModuleInit(): void {
    this.housekeeping.add('room that is set aside', () => this.rooms.tidy());
    this.housekeeping.add('the trash by age', () => this.purger.purgeByAge());
    this.housekeeping.add('old versions', () => this.versions.thinAll());
    this.housekeeping.add('samples of what is used', () => this.usage.sample());
  }
}
