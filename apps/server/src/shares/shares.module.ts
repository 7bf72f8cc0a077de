import { Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { MomentsService } from './moments.service.js';
import { CalendarController, CalendarLinkController } from './calendar.controller.js';
import { CalendarService } from './calendar.service.js';
import { GuardrailsController } from './guardrails.controller.js';
import { GuardrailsService } from './guardrails.service.js';
import { CameService } from './came.service.js';
import { ClearingService } from './clearing.service.js';
import { TidyService } from './tidy.service.js';
import { ShareListViewService } from './list-view.service.js';
import { SuggestionsService } from './suggestions.service.js';
import { TemplatesController } from './templates.controller.js';
import { TemplatesService } from './templates.service.js';
import { OutgoingController } from './outgoing.controller.js';
import { OutgoingService } from './outgoing.service.js';
import { ShareItemsService } from './items.service.js';
import { ForMeService } from './for-me.service.js';
import { ShareListService } from './list.service.js';
import { ShareRulesController } from './rules.controller.js';
import { ShareRulesService } from './rules.service.js';
import { SharesController } from './shares.controller.js';
import { SharesService } from './shares.service.js';

@Module({
  imports: [StoresModule],
  controllers: [
    SharesController,
    OutgoingController,
    TemplatesController,
    CalendarLinkController,
    CalendarController,
    ShareRulesController,
    GuardrailsController,
  ],
  providers: [
    GuardrailsService,
    CameService,
    ClearingService,
    TemplatesService,
    CalendarService,
    ShareRulesService,
    SharesService,
    ShareListService,
    MomentsService,
    ForMeService,
    ShareItemsService,
    ShareListViewService,
    SuggestionsService,
    TidyService,
    OutgoingService,
  ],
  exports: [GuardrailsService, SharesService, ShareListService, ForMeService],
})
export class SharesModule {}
