import { Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { PreviewsController } from './previews.controller.js';
import { PreviewsService } from './previews.service.js';
import { Workshop } from './workshop.js';

@Module({
  imports: [StoresModule],
  controllers: [PreviewsController],
  providers: [PreviewsService, Workshop],
  exports: [PreviewsService, Workshop],
})
export class PreviewsModule {}
