import { Module } from '@nestjs/common';
import { PreviewsModule } from '../previews/previews.module.js';
import { StoresModule } from '../stores/stores.module.js';
import { DownloadService } from './download.service.js';
import { BatchRecorder } from './batch-recorder.service.js';
import { FoldersBelow } from './folders-below.js';
import { PartsService } from './parts.service.js';
import { Recorder } from './recorder.service.js';
import { ResumableService } from './resumable.service.js';
import { TransfersController } from './transfers.controller.js';
import { UploadService } from './upload.service.js';

@Module({
  imports: [StoresModule, PreviewsModule],
  controllers: [TransfersController],
  providers: [UploadService, DownloadService, Recorder, BatchRecorder, FoldersBelow, PartsService, ResumableService],
  exports: [DownloadService, BatchRecorder, PartsService, ResumableService],
})
export class TransfersModule {}
