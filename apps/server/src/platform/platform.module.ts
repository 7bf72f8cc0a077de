import { Global, Module, type DynamicModule } from '@nestjs/common';
import { Attempts } from './attempts.js';
import { PasswordDoor } from './password-door.js';
import { BLOBS, BLOB_COPY } from './blobs/blob-store.js';
import { BlobKeeper } from './blobs/blob-keeper.js';
import { DiskBlobStore } from './blobs/disk-blob-store.js';
import { Clock } from './clock.js';
import { CONFIG, type Config } from './config.js';
import { Dialler } from './dialler.js';
import { Events } from './events/events.js';
import { Housekeeping } from './housekeeping.js';
import { Jobs } from './jobs/jobs.service.js';
import { Mail } from './mail.js';
import { TextMessages } from './text-messages.js';
import { Office } from './office.js';
import { OwnNetwork } from './own-network.js';
import { RunningWork } from './running.js';

@Global()
@Module({})
export class PlatformModule {
  static with(config: Config): DynamicModule {
    const provided = [
      { provide: CONFIG, useValue: config },
      { provide: BLOBS, useFactory: () => new DiskBlobStore(config.blobRoot, config.pace) },
      {
        provide: BLOB_COPY,
        useFactory: () => (config.blobCopyRoot ? new DiskBlobStore(config.blobCopyRoot) : null),
      },
      { provide: Clock, useFactory: () => new Clock(config.clockAheadMs) },
      { provide: Dialler, useFactory: () => new Dialler(config.reach.wiring, config.reach.roots) },
      OwnNetwork,
      BlobKeeper,
      Attempts,
      PasswordDoor,
      Events,
      Mail,
      TextMessages,
      Office,
      Housekeeping,
      RunningWork,
      Jobs,
    ];
    return { module: PlatformModule, providers: provided, exports: provided };
  }
}
