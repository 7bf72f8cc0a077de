import { Body, Controller, Delete, Get, HttpCode, Param, Post, Put, UseGuards } from '@nestjs/common';
import { idSchema, keepMessageTemplateSchema, type KeepMessageTemplate, type MessageTemplateRow } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { MessageTemplatesService } from './message-templates.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/message-templates')
export class MessageTemplatesController {
  constructor(private readonly service: MessageTemplatesService) {}

  @Get()
  @For('signed-in')
  @Operation('Messages to hand links over with: yours, and those of the office')
  list(@Me() who: Who): Promise<MessageTemplateRow[]> {
    return this.service.list(who);
  }

  @Post()
  @For('signed-in')
  @HttpCode(200)
  @Operation('Keep a message for yourself or, as the admin, for all of the office', keepMessageTemplateSchema)
  keep(
    @Me() who: Who,
    @Body(valid(keepMessageTemplateSchema)) asked: KeepMessageTemplate,
  ): Promise<MessageTemplateRow[]> {
    return this.service.keep(who, null, asked);
  }

  @Put(':id')
  @For('signed-in')
  @Operation('Change a message that is kept', keepMessageTemplateSchema)
  change(
    @Me() who: Who,
    @Param('id', id) templateId: string,
    @Body(valid(keepMessageTemplateSchema)) asked: KeepMessageTemplate,
  ): Promise<MessageTemplateRow[]> {
    return this.service.keep(who, templateId, asked);
  }

  @Delete(':id')
  @For('signed-in')
  @Operation('Remove one of yours or, as the admin, of the office')
  remove(@Me() who: Who, @Param('id', id) templateId: string): Promise<MessageTemplateRow[]> {
    return this.service.remove(who, templateId);
  }
}
