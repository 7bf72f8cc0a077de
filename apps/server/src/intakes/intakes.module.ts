import { Module } from '@nestjs/common';
import { PreviewsModule } from '../previews/previews.module.js';
import { StoresModule } from '../stores/stores.module.js';
import { TransfersModule } from '../transfers/transfers.module.js';
import { VisitsModule } from '../visits/visits.module.js';
import { AskingBackService } from './asking-back.service.js';
import { ContentService } from './content.service.js';
import { DepositUploads } from './deposit-uploads.service.js';
import { IntakeDoorService } from './door.service.js';
import { HandingInService } from './handing-in.service.js';
import { IntakeDoorController } from './intake-door.controller.js';
import { IntakesController, RemindersController, TrayController } from './intakes.controller.js';
import { IntakesService } from './intakes.service.js';
import { RemindersService } from './reminders.service.js';
import { ScannerService } from './scanner.service.js';
import { PlainIntakeController } from './plain-intake.controller.js';
import { WaitingFileController } from './waiting-file.controller.js';
import { TrayService } from './tray.service.js';

@Module({
  imports: [StoresModule, TransfersModule, PreviewsModule, VisitsModule],
  controllers: [
    IntakesController,
    RemindersController,
    TrayController,
    WaitingFileController,
    IntakeDoorController,
    PlainIntakeController,
  ],
  providers: [
    IntakesService,
    TrayService,
    AskingBackService,
    RemindersService,
    IntakeDoorService,
    HandingInService,
    DepositUploads,
    ContentService,
    ScannerService,
  ],
})
export class IntakesModule {}
