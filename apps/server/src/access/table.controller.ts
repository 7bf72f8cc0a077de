import { Body, Controller, Get, Post, Query, UseGuards } from '@nestjs/common';
import {
  accessTrialSchema,
  askAccessSchema,
  betweenSchema,
  momentSchema,
  type AccessAnswer,
  type AccessMoments,
  type AccessShifts,
  type AccessTableAnswer,
  type AccessTrial,
  type AskAccess,
  type ShiftsBetween,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { QuestionsService } from './questions.service.js';
import { TableService } from './table.service.js';

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/access')
export class TableController {
  constructor(
    private readonly tables: TableService,
    private readonly questions: QuestionsService,
  ) {}

  @Get('table')
  @For('run-people')
  @Operation('Who reaches what: everybody against every folder where something is granted', undefined, momentSchema)
  table(@Me() who: Who, @Query(valid(momentSchema)) { at }: { at?: string }): Promise<AccessTableAnswer> {
    return this.tables.table(who, at);
  }

  @Post('trials')
  @For('run-people')
  @Operation('What a change would do, without doing it', accessTrialSchema)
  try(@Me() who: Who, @Body(valid(accessTrialSchema)) asked: AccessTrial): Promise<AccessShifts> {
    return this.tables.try(who, asked);
  }

  @Post('questions')
  @For('run-people')
  @Operation('Who can open a folder, what somebody reaches, why they cannot do something', askAccessSchema)
  ask(@Me() who: Who, @Body(valid(askAccessSchema)) asked: AskAccess): Promise<AccessAnswer> {
    return this.questions.ask(who, asked);
  }

  @Get('shifts')
  @For('run-people')
  @Operation('Who may more or less than at an earlier moment, and who changed it', undefined, betweenSchema)
  between(
    @Me() who: Who,
    @Query(valid(betweenSchema)) { since, until }: { since: string; until?: string },
  ): Promise<ShiftsBetween> {
    return this.tables.between(who, since, until);
  }

  @Get('moments')
  @For('run-people')
  @Operation('When something changed of who may what')
  moments(): Promise<AccessMoments> {
    return this.tables.moments();
  }
}
