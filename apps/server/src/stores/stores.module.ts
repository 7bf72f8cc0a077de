import { Module } from '@nestjs/common';
import { AccessService } from './access.service.js';
import { StoresController } from './stores.controller.js';
import { StoresService } from './stores.service.js';

@Module({ controllers: [StoresController], providers: [StoresService, AccessService], exports: [StoresService, AccessService] })
export class StoresModule {}
