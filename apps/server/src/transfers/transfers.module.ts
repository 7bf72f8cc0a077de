import { Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { DownloadService } from './download.service.js';
import { TransfersController } from './transfers.controller.js';
import { UploadService } from './upload.service.js';

@Module({ imports: [StoresModule], controllers: [TransfersController], providers: [UploadService, DownloadService], exports: [DownloadService] })
export class TransfersModule {}
