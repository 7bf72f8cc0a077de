import { Body, Controller, Delete, Get, HttpCode, Param, Post, UseGuards } from '@nestjs/common';
import { idSchema, keepTemplateSchema, type KeepTemplate, type SlipTemplate } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { TemplatesService } from './templates.service.js';

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/templates')
export class TemplatesController {
  constructor(private readonly service: TemplatesService) {}

  @Get()
  @For('signed-in')
  @Operation('Your templates for shares, and those of the office')
  list(@Me() who: Who): Promise<SlipTemplate[]> {
    return this.service.list(who);
  }

  @Post()
  @For('signed-in')
  @HttpCode(200)
  @Operation('Keep choices of the slip for yourself or, as the admin, for all of the office', keepTemplateSchema)
  keep(@Me() who: Who, @Body(valid(keepTemplateSchema)) asked: KeepTemplate): Promise<SlipTemplate[]> {
    return this.service.keep(who, asked);
  }

  @Delete(':id')
  @For('signed-in')
  @Operation('Remove one of yours or, as the admin, of the office')
  remove(@Me() who: Who, @Param('id', valid(idSchema.required())) id: string): Promise<SlipTemplate[]> {
    return this.service.remove(who, id);
  }
}
