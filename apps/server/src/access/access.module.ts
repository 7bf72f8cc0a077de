import { Global, Module } from '@nestjs/common';
import { AccessService } from './access.service.js';

/** Every capability asks what somebody may do. */
@Global()
@Module({ providers: [AccessService], exports: [AccessService] })
export class AccessModule {}
