import { Body, Controller, Get, HttpCode, Module, Param, Post, Req } from '@nestjs/common';
import { setPasswordSchema, type PasswordLink, type SetPassword } from '@quay/contract';
import type { Request } from 'express';
import Joi from 'joi';
import { clientAddress } from '../platform/client-address.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { SharesModule } from '../shares/shares.module.js';
import { StoresModule } from '../stores/stores.module.js';
import { VisitsModule } from '../visits/visits.module.js';
import { AccountsService } from './accounts.service.js';
import { DutySetsService } from './duty-sets.service.js';
import { GuestsService } from './guests.service.js';
import { ImportService } from './import.service.js';
import { InvitationsService } from './invitations.service.js';
import { DutySetsController, GuestsController, PeopleController } from './people.controller.js';
import { LeavingService } from './leaving.service.js';
import { SeenAsService } from './seen-as.service.js';
import { PeopleService } from './people.service.js';

const token = valid<string>(Joi.string().alphanum().max(64).required());

@ApiPart('session')
@Controller('api/password-links')
class PasswordLinksController {
  constructor(private readonly accounts: AccountsService) {}

  @Get(':token')
  @For('anyone')
  @Operation('Whose link it is')
  whose(@Param('token', token) secret: string, @Req() req: Request): Promise<PasswordLink> {
    return this.accounts.whose(secret, clientAddress(req));
  }

  @Post(':token')
  @For('anyone')
  @HttpCode(204)
  @Operation('Set a password by a link, once', setPasswordSchema)
  set(
    @Param('token', token) secret: string,
    @Body(valid(setPasswordSchema)) asked: SetPassword,
    @Req() req: Request,
  ): Promise<void> {
    return this.accounts.setPassword(secret, asked, clientAddress(req));
  }
}

@Module({
  imports: [SharesModule, StoresModule, VisitsModule],
  controllers: [PasswordLinksController, PeopleController, DutySetsController, GuestsController],
  providers: [
    AccountsService,
    DutySetsService,
    GuestsService,
    ImportService,
    LeavingService,
    PeopleService,
    InvitationsService,
    SeenAsService,
  ],
  exports: [AccountsService],
})
export class AccountsModule {}
