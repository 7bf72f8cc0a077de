import { Body, Controller, Delete, Get, HttpCode, Post, Put, UseGuards } from '@nestjs/common';
import {
  textGatewaySchema,
  textTrialSchema,
  type TextGatewayAsked,
  type TextGatewaySettings,
  type TextTrial,
  type TextTrialAnswer,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { TextGatewayService } from './text-gateway.service.js';

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings/text-messages')
export class TextGatewayController {
  constructor(private readonly service: TextGatewayService) {}

  @Get()
  @For('run-server')
  @Operation('The gateway for text messages')
  settings(): Promise<TextGatewaySettings> {
    return this.service.settings();
  }

  @Put()
  @For('run-server')
  @Operation('Name a gateway for text messages', textGatewaySchema)
  change(@Me() who: Who, @Body(valid(textGatewaySchema)) asked: TextGatewayAsked): Promise<TextGatewaySettings> {
    return this.service.change(who, asked);
  }

  @Delete()
  @For('run-server')
  @Operation('Send no text messages')
  without(@Me() who: Who): Promise<TextGatewaySettings> {
    return this.service.without(who);
  }

  @Post('trial')
  @For('run-server')
  @HttpCode(200)
  @Operation('Send a test message, and see what the gateway says', textTrialSchema)
  trial(@Me() who: Who, @Body(valid(textTrialSchema)) asked: TextTrial): Promise<TextTrialAnswer> {
    return this.service.trial(who, asked);
  }
}
