import { Body, Controller, Get, Put, UseGuards } from '@nestjs/common';
import { shareRulesSchema, type ShareRules } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { ShareRulesService } from './rules.service.js';

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings/shares')
export class ShareRulesController {
  constructor(private readonly service: ShareRulesService) {}

  @Get()
  @For('run-server')
  @Operation('What holds for all shares')
  rules(): Promise<ShareRules> {
    return this.service.rules();
  }

  @Put()
  @For('run-server')
  @Operation('Change what holds for all shares', shareRulesSchema)
  change(@Me() who: Who, @Body(valid(shareRulesSchema)) asked: ShareRules): Promise<ShareRules> {
    return this.service.change(who, asked);
  }
}
