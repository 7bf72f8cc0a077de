import { Module } from '@nestjs/common';
import { LeftController } from './left.controller.js';
import { OfficeMaker } from './office-maker.service.js';
import { Restart } from './restart.js';
import { NotBegunGuard, SetupController } from './setup.controller.js';
import { SetupService } from './setup.service.js';

@Module({
  controllers: [SetupController, LeftController],
  providers: [SetupService, OfficeMaker, NotBegunGuard, Restart],
  exports: [SetupService, Restart],
})
export class SetupModule {}
