import { Body, Controller, Delete, Get, Put, UseGuards } from '@nestjs/common';
import { mailReturnsSchema, type MailReturnsAsked, type MailReturnsSettings } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { MailReturnsService } from './mail-returns.service.js';

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings/mail-returns')
export class MailReturnsController {
  constructor(private readonly service: MailReturnsService) {}

  @Get()
  @For('run-server')
  @Operation('The mailbox that mail comes back to')
  settings(): Promise<MailReturnsSettings> {
    return this.service.settings();
  }

  @Put()
  @For('run-server')
  @Operation('Name a mailbox that mail comes back to; it is opened first', mailReturnsSchema)
  change(@Me() who: Who, @Body(valid(mailReturnsSchema)) asked: MailReturnsAsked): Promise<MailReturnsSettings> {
    return this.service.change(who, asked);
  }

  @Delete()
  @For('run-server')
  @Operation('Read no mail that came back')
  without(@Me() who: Who): Promise<MailReturnsSettings> {
    return this.service.without(who);
  }
}
