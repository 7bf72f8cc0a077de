import { Module } from '@nestjs/common';
import { SharesModule } from '../shares/shares.module.js';
import { HandOverController } from './hand-over.controller.js';
import { HandOverService } from './hand-over.service.js';

@Module({ imports: [SharesModule], controllers: [HandOverController], providers: [HandOverService] })
export class HandOverModule {}
