import { Body, Controller, Delete, Get, HttpCode, Module, Param, Post, Put, UseGuards } from '@nestjs/common';
import {
  backupFolderSchema,
  backupPlanSchema,
  idSchema,
  type BackupCopies,
  type BackupFolder,
  type BackupFolderFacts,
  type BackupPlan,
  type Backups,
} from '@quay/contract';
import { AccessModule } from '../access/access.module.js';
import { AdoptModule } from '../adopt/adopt.module.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { StoresModule } from '../stores/stores.module.js';
import { TransfersModule } from '../transfers/transfers.module.js';
import { BackupsService } from './backups.service.js';
import { BackupFolders } from './folders.service.js';
import { BringPart } from './part.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('backups')
@UseGuards(SignedInGuard)
@Controller('api/backups')
class BackupsController {
  constructor(
    private readonly backups: BackupsService,
    private readonly folders: BackupFolders,
  ) {}

  @Get()
  @For('run-server')
  @Operation('Where backups go, how they went, and what is wrong with them')
  list(): Promise<Backups> {
    return this.backups.list();
  }

  @Post()
  @For('run-server')
  @Operation('Add a place for backups; the first is made at once', backupPlanSchema)
  add(@Me() who: Who, @Body(valid(backupPlanSchema)) plan: BackupPlan): Promise<Backups> {
    return this.backups.add(who, plan);
  }

  @Post('look')
  @For('run-server')
  @HttpCode(200)
  @Operation('What a folder is like that backups could go to', backupFolderSchema)
  look(@Body(valid(backupFolderSchema)) { folder }: BackupFolder): Promise<BackupFolderFacts> {
    return this.folders.look(folder);
  }

  @Put(':id')
  @For('run-server')
  @Operation('Change where backups go, when, and which are kept', backupPlanSchema)
  change(
    @Me() who: Who,
    @Param('id', id) placeId: string,
    @Body(valid(backupPlanSchema)) plan: BackupPlan,
  ): Promise<Backups> {
    return this.backups.change(who, placeId, plan);
  }

  @Delete(':id')
  @For('run-server')
  @Operation('Make no more backups there; those that lie there stay')
  remove(@Me() who: Who, @Param('id', id) placeId: string): Promise<Backups> {
    return this.backups.remove(who, placeId);
  }

  @Get(':id/copies')
  @For('run-server')
  @Operation('The backups that lie in a place')
  copies(@Param('id', id) placeId: string): Promise<BackupCopies> {
    return this.folders.copies(placeId);
  }

  @Post(':id/now')
  @For('run-server')
  @HttpCode(200)
  @Operation('Make a backup now')
  now(@Me() who: Who, @Param('id', id) placeId: string): Promise<Backups> {
    return this.backups.now(who, placeId);
  }

  @Post(':id/rehearse')
  @For('run-server')
  @HttpCode(200)
  @Operation('Rehearse bringing the newest backup back')
  rehearse(@Me() who: Who, @Param('id', id) placeId: string): Promise<Backups> {
    return this.backups.rehearseNow(who, placeId);
  }
}

@Module({
  imports: [AccessModule, AdoptModule, StoresModule, TransfersModule],
  controllers: [BackupsController],
  providers: [BackupsService, BackupFolders, BringPart],
  exports: [BackupsService],
})
export class BackupsModule {}
