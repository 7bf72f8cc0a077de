import { Global, Module } from '@nestjs/common';
import { DeviceMemory } from './device-memory.js';
import { FactorBrowsers } from './factor-browsers.js';
import { FactorController } from './factor.controller.js';
import { FactorService } from './factor.service.js';
import { OwnPassword } from './own-password.js';
import { NoticesService } from './notices.service.js';
import { PasskeysController } from './passkeys.controller.js';
import { PasskeysService } from './passkeys.service.js';
import { SessionController } from './session.controller.js';
import { SessionService } from './session.service.js';
import { SignedInGuard } from './signed-in.guard.js';

/** Everybody needs to know who is asking, so the guard is there for all. */
@Global()
@Module({
  controllers: [SessionController, FactorController, PasskeysController],
  providers: [
    OwnPassword,
    FactorBrowsers,
    SessionService,
    FactorService,
    NoticesService,
    PasskeysService,
    SignedInGuard,
    DeviceMemory,
  ],
  exports: [SessionService, FactorService, NoticesService, SignedInGuard],
})
export class PeopleModule {}
