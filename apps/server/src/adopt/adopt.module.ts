import { Body, Controller, Get, Module, Param, Post, Query, UseGuards, type OnModuleInit } from '@nestjs/common';
import {
  browseSchema,
  exportSchema,
  idSchema,
  importSchema,
  type AskImport,
  type Damaged,
  type ServerFolder,
  type Task,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { StoresModule } from '../stores/stores.module.js';
import { TransfersModule } from '../transfers/transfers.module.js';
import { ExportService } from './export.service.js';
import { ImportService } from './import.service.js';
import { TasksService } from './tasks.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('tasks')
@UseGuards(SignedInGuard)
@Controller('api')
export class AdoptController {
  constructor(
    private readonly imports: ImportService,
    private readonly exports: ExportService,
    private readonly tasks: TasksService,
  ) {}

  @Get('import/browse')
  @For('run-server')
  @Operation("Folders of the server's disk that can be adopted (admin)", undefined, browseSchema)
  browse(@Me() who: Who, @Query(valid(browseSchema)) query: { path?: string }): Promise<ServerFolder> {
    return this.imports.browse(who, query.path);
  }

  @Post('import')
  @For('run-server')
  @Operation("Adopt a folder of the server's disk (admin)", importSchema)
  import(@Me() who: Who, @Body(valid(importSchema)) asked: AskImport): Promise<Task> {
    return this.imports.ask(who, asked.path, asked.folderId);
  }

  @Post('export')
  @For('run-server-there')
  @Operation('Write a store out as plain folders with a manifest (admin)', exportSchema)
  export(@Me() who: Who, @Body(valid(exportSchema)) asked: { storeId: string }): Promise<Task> {
    return this.exports.ask(who, asked.storeId);
  }

  @Post('scrub')
  @For('run-server')
  @Operation('Read every file against its checksum (admin)')
  scrub(@Me() who: Who): Promise<Task> {
    return this.exports.askScrub(who);
  }

  @Get('damaged')
  @For('run-server')
  @Operation('Files whose bytes are damaged or missing (admin)')
  damaged(@Me() who: Who): Promise<Damaged> {
    return this.exports.damaged(who);
  }

  @Get('tasks')
  @For('run-server')
  @Operation('Long work, newest first (admin)')
  list(): Promise<Task[]> {
    return this.tasks.list();
  }

  @Post('tasks/:id/stop')
  @For('run-server')
  @Operation('Stop a task; what it has done stays (admin)')
  stop(@Param('id', id) taskId: string): Promise<Task> {
    return this.tasks.stop(taskId);
  }
}

@Module({
  imports: [StoresModule, TransfersModule],
  controllers: [AdoptController],
  providers: [TasksService, ImportService, ExportService],
  exports: [TasksService],
})
export class AdoptModule implements OnModuleInit {
  constructor(
    private readonly housekeeping: Housekeeping,
    private readonly exports: ExportService,
  ) {}

  onModuleInit(): void {
    this.housekeeping.add('bytes against their checksums', () => this.exports.scrubSome());
  }
}
