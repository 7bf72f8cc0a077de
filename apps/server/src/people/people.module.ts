import { Global, Module } from '@nestjs/common';
import { DeviceMemory } from './device-memory.js';
import { SessionController } from './session.controller.js';
import { SessionService } from './session.service.js';
import { SignedInGuard } from './signed-in.guard.js';

/** Everybody needs to know who is asking, so the guard is there for all. */
@Global()
@Module({
  controllers: [SessionController],
  providers: [SessionService, SignedInGuard, DeviceMemory],
  exports: [SessionService, SignedInGuard],
})
export class PeopleModule {}
