import { Body, Controller, Delete, Get, HttpCode, Module, Post, Put, Req, UseGuards } from '@nestjs/common';
import {
  logoSchema,
  mailServerSchema,
  mailTrialSchema,
  officeSettingsSchema,
  securitySettingsSchema,
  type MailServer,
  type MailSettings,
  type MailTrial,
  type MailTrialAnswer,
  type About,
  type LogoPicture,
  type OfficeSettings,
  type SecuritySettings,
  type WouldDo,
} from '@quay/contract';
import type { Request } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { clientAddress } from '../platform/client-address.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { SharesModule } from '../shares/shares.module.js';
import { SecurityService } from './security.service.js';
import { SettingsService } from './settings.service.js';
import { StoreSettingsController } from './store-settings.controller.js';
import { TextGatewayController } from './text-gateway.controller.js';
import { TextGatewayService } from './text-gateway.service.js';
import { StoreSettingsService } from './store-settings.service.js';

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings')
class SettingsController {
  constructor(
    private readonly settings: SettingsService,
    private readonly security: SecurityService,
  ) {}

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

  @Get('logo')
  @For('run-server')
  @Operation("The logo on visitors' pages")
  logo(): Promise<LogoPicture> {
    return this.settings.logo();
  }

  @Put('logo')
  @For('run-server')
  @Operation("Change the logo on visitors' pages", logoSchema)
  changeLogo(@Me() who: Who, @Body(valid(logoSchema)) { png }: { png: string }): Promise<LogoPicture> {
    return this.settings.changeLogo(who, png);
  }

  @Delete('logo')
  @For('run-server')
  @Operation("Take the logo off visitors' pages")
  withoutLogo(@Me() who: Who): Promise<LogoPicture> {
    return this.settings.withoutLogo(who);
  }

  @Get('security')
  @For('run-server')
  @Operation('What is asked of those who sign in')
  securitySettings(): Promise<SecuritySettings> {
    return this.security.settings();
  }

  @Post('security/would-do')
  @For('run-server')
  @HttpCode(200)
  @Operation('What a change of that would do', securitySettingsSchema)
  securityWouldDo(@Body(valid(securitySettingsSchema)) asked: SecuritySettings): Promise<WouldDo> {
    return this.security.wouldDo(asked);
  }

  @Put('security')
  @For('run-server')
  @Operation('Change what is asked of those who sign in', securitySettingsSchema)
  changeSecurity(
    @Me() who: Who,
    @Body(valid(securitySettingsSchema)) asked: SecuritySettings,
    @Req() req: Request,
  ): Promise<SecuritySettings> {
    return this.security.change(who, asked, clientAddress(req));
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
}

@Module({
  imports: [SharesModule],
  controllers: [SettingsController, StoreSettingsController, TextGatewayController],
  providers: [SettingsService, TextGatewayService, SecurityService, StoreSettingsService],
})
export class SettingsModule {}
