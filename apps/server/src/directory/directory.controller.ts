import { Body, Controller, Delete, Get, HttpCode, Param, Post, Put, UseGuards } from '@nestjs/common';
import {
  directoryFindSchema,
  idSchema,
  keepDirectorySchema,
  lookAtDirectorySchema,
  type Directory,
  type DirectoryFind,
  type DirectoryFindAnswer,
  type DirectoryRunSheet,
  type DirectoryTrial,
  type KeepDirectory,
  type LookAtDirectory,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { DirectoryService } from './directory.service.js';
import { RunsService } from './runs.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/directory')
export class DirectoryController {
  constructor(
    private readonly directory: DirectoryService,
    private readonly runs: RunsService,
  ) {}

  @Get()
  @For('run-people')
  @Operation('How the directory is asked, and what came of it lately')
  state(): Promise<Directory> {
    return this.directory.state();
  }

  @Put()
  @For('run-server')
  @Operation('Say how the directory is asked', keepDirectorySchema)
  keep(@Me() who: Who, @Body(valid(keepDirectorySchema)) asked: KeepDirectory): Promise<Directory> {
    return this.directory.keep(who, asked);
  }

  @Delete()
  @For('run-server')
  @Operation('Ask the directory no more: whoever came from it gets a password by a link')
  forget(@Me() who: Who): Promise<Directory> {
    return this.directory.forget(who);
  }

  @Delete('people/:id')
  @For('run-server')
  @HttpCode(204)
  @Operation('Let somebody have a password here again, apart from the directory')
  detach(@Me() who: Who, @Param('id', id) personId: string): Promise<void> {
    return this.directory.detach(who, personId);
  }

  @Post('trial')
  @For('run-server')
  @HttpCode(200)
  @Operation('Go through to a directory step by step, and tell what each showed', keepDirectorySchema)
  try(@Me() who: Who, @Body(valid(keepDirectorySchema)) asked: KeepDirectory): Promise<DirectoryTrial> {
    return this.directory.try(who, asked);
  }

  @Post('find')
  @For('run-people')
  @HttpCode(200)
  @Operation('Entries of the directory by a word, or what stands below a branch', directoryFindSchema)
  find(@Me() who: Who, @Body(valid(directoryFindSchema)) asked: DirectoryFind): Promise<DirectoryFindAnswer> {
    return this.directory.find(who, asked);
  }

  @Post('runs')
  @For('run-people')
  @Operation('Look at the directory, for what would change here', lookAtDirectorySchema)
  look(@Me() who: Who, @Body(valid(lookAtDirectorySchema)) asked: LookAtDirectory): Promise<DirectoryRunSheet> {
    return this.runs.look(who, asked);
  }

  @Get('runs/:id')
  @For('run-people')
  @Operation('What a look at the directory would change, or has')
  run(@Param('id', id) runId: string): Promise<DirectoryRunSheet> {
    return this.runs.sheet(runId);
  }

  @Post('runs/:id')
  @For('run-people')
  @HttpCode(200)
  @Operation('Do what a look at the directory would change')
  agree(@Me() who: Who, @Param('id', id) runId: string): Promise<DirectoryRunSheet> {
    return this.runs.agree(who, runId);
  }

  @Delete('runs/:id')
  @For('run-people')
  @Operation('Leave all as it is')
  drop(@Param('id', id) runId: string): Promise<DirectoryRunSheet> {
    return this.runs.drop(runId);
  }
}
