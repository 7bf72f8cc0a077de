import { Module } from '@nestjs/common';
import { SharesModule } from '../shares/shares.module.js';
import { Attaching } from './attaching.js';
import { HandOverController, HandOverFindingsController } from './hand-over.controller.js';
import { HandOverService } from './hand-over.service.js';
import { MailReturnsController } from './mail-returns.controller.js';
import { MailReturnsService } from './mail-returns.service.js';
import { MessageTemplatesController } from './message-templates.controller.js';
import { MessageTemplatesService } from './message-templates.service.js';
import { SendingService } from './sending.service.js';
import { SheetService } from './sheet.service.js';

@Module({
  imports: [SharesModule],
  controllers: [...[HandOverController, HandOverFindingsController, MessageTemplatesController, MailReturnsController]],
  providers: [HandOverService, SendingService, SheetService, Attaching, MessageTemplatesService, MailReturnsService],
})
export class HandOverModule {}
