import { Global, Module } from '@nestjs/common';
import { AccessController } from './access.controller.js';
import { AccessService } from './access.service.js';
import { GrantsService } from './grants.service.js';
import { HomesService } from './homes.service.js';

/** Every capability asks what somebody may do. */
@Global()
@Module({
  controllers: [AccessController],
  providers: [AccessService, GrantsService, HomesService],
  exports: [AccessService],
})
export class AccessModule {}
