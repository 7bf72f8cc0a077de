import { Body, Controller, Delete, Get, HttpCode, Module, Param, Patch, Post, Put, UseGuards } from '@nestjs/common';
import {
  idSchema,
  mailServerSchema,
  mailTrialSchema,
  officeSettingsSchema,
  securitySettingsSchema,
  storeNameSchema,
  type MailServer,
  type MailSettings,
  type MailTrial,
  type MailTrialAnswer,
  type About,
  type OfficeSettings,
  type SecuritySettings,
  type StoreName,
  type StoreSettings,
  type WouldDo,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { SettingsService } from './settings.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings')
class SettingsController {
  constructor(private readonly settings: SettingsService) {}

  @Get('office')
  @For('run-server')
  @Operation('The office: its name, its clock, homes')
  office(): Promise<OfficeSettings> {
    return this.settings.officeSettings();
  }

  @Put('office')
  @For('run-server')
  @Operation('Change the office', officeSettingsSchema)
  changeOffice(@Me() who: Who, @Body(valid(officeSettingsSchema)) asked: OfficeSettings): Promise<OfficeSettings> {
    return this.settings.changeOffice(who, asked);
  }

  @Get('security')
  @For('run-server')
  @Operation('What is asked of those who sign in')
  security(): Promise<SecuritySettings> {
    return this.settings.security();
  }

  @Post('security/would-do')
  @For('run-server')
  @HttpCode(200)
  @Operation('What a change of that would do', securitySettingsSchema)
  securityWouldDo(@Body(valid(securitySettingsSchema)) asked: SecuritySettings): Promise<WouldDo> {
    return this.settings.securityWouldDo(asked);
  }

  @Put('security')
  @For('run-server')
  @Operation('Change what is asked of those who sign in', securitySettingsSchema)
  changeSecurity(
    @Me() who: Who,
    @Body(valid(securitySettingsSchema)) asked: SecuritySettings,
  ): Promise<SecuritySettings> {
    return this.settings.changeSecurity(who, asked);
  }

  @Get('about')
  @For('run-server')
  @Operation('What is shipped, and with what it runs')
  about(): Promise<About> {
    return this.settings.about();
  }

  @Get('mail')
  @For('run-server')
  @Operation('The mail server')
  mail(): Promise<MailSettings> {
    return this.settings.mail();
  }

  @Put('mail')
  @For('run-server')
  @Operation('Name a mail server', mailServerSchema)
  changeMail(@Me() who: Who, @Body(valid(mailServerSchema)) asked: MailServer): Promise<MailSettings> {
    return this.settings.changeMail(who, asked);
  }

  @Delete('mail')
  @For('run-server')
  @Operation('Send no mail')
  withoutMail(@Me() who: Who): Promise<MailSettings> {
    return this.settings.withoutMail(who);
  }

  @Post('mail/trial')
  @For('run-server')
  @HttpCode(200)
  @Operation('Send a test message, and see what the servers say', mailTrialSchema)
  trial(@Me() who: Who, @Body(valid(mailTrialSchema)) asked: MailTrial): Promise<MailTrialAnswer> {
    return this.settings.tryMail(who, asked);
  }

  @Get('stores')
  @For('run-server')
  @Operation('The common stores')
  stores(): Promise<StoreSettings[]> {
    return this.settings.stores();
  }

  @Post('stores')
  @For('run-server')
  @Operation('Make a store', storeNameSchema)
  makeStore(@Me() who: Who, @Body(valid(storeNameSchema)) asked: StoreName): Promise<StoreSettings[]> {
    return this.settings.makeStore(who, asked);
  }

  @Patch('stores/:id')
  @For('run-server')
  @Operation('Rename a store', storeNameSchema)
  renameStore(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Body(valid(storeNameSchema)) asked: StoreName,
  ): Promise<StoreSettings[]> {
    return this.settings.renameStore(who, storeId, asked);
  }
}

@Module({ controllers: [SettingsController], providers: [SettingsService] })
export class SettingsModule {}
