import { Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { EventStreams } from './event-streams.js';
import { LiveController } from './live.controller.js';
import { StaffEars } from './staff-ears.service.js';

@Module({
  imports: [StoresModule],
  controllers: [LiveController],
  providers: [EventStreams, StaffEars],
  exports: [EventStreams],
})
export class LiveModule {}
