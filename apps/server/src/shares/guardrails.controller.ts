import { Body, Controller, Get, HttpCode, Param, Post, Put, UseGuards } from '@nestjs/common';
import {
  guardrailsForSchema,
  guardrailsSchema,
  idSchema,
  type GuardrailsAsked,
  type GuardrailsFor,
  type GuardrailsKept,
  type GuardrailTrial,
} from '@quay/contract';
import Joi from 'joi';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { GuardrailsService } from './guardrails.service.js';

/** Whose they are: the office's, or a store's by its id. */
const whose = valid<string>(Joi.alternatives(Joi.string().valid('office'), idSchema).required());
const storeOf = (of: string): string | null => (of === 'office' ? null : of);

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/guardrails')
export class GuardrailsController {
  constructor(private readonly service: GuardrailsService) {}

  @Get()
  @For('run-server')
  @Operation('The guardrails of the office and of each store')
  kept(@Me() who: Who): Promise<GuardrailsKept> {
    return this.service.kept(who);
  }

  @Post('for')
  @For('signed-in')
  @HttpCode(200)
  @Operation('The guardrails that hold for shares of these items', guardrailsForSchema)
  forNodes(
    @Me() who: Who,
    @Body(valid(guardrailsForSchema)) { nodeIds }: { nodeIds: string[] },
  ): Promise<GuardrailsFor> {
    return this.service.forNodes(who, nodeIds);
  }

  @Post(':of/trial')
  @For('run-server')
  @HttpCode(200)
  @Operation('Which shares that are out other guardrails would close; nothing is kept', guardrailsSchema)
  trial(
    @Me() who: Who,
    @Param('of', whose) of: string,
    @Body(valid(guardrailsSchema)) asked: GuardrailsAsked,
  ): Promise<GuardrailTrial> {
    return this.service.trial(who, storeOf(of), asked);
  }

  @Put(':of')
  @For('run-server')
  @Operation(
    'Change the guardrails of the office ("office") or of a store; what does not keep to them is closed',
    guardrailsSchema,
  )
  change(
    @Me() who: Who,
    @Param('of', whose) of: string,
    @Body(valid(guardrailsSchema)) asked: GuardrailsAsked,
  ): Promise<GuardrailsKept> {
    return this.service.change(who, storeOf(of), asked);
  }
}
