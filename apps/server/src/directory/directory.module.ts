import { Global, Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { ApplyService } from './apply.service.js';
import { DirectoryController } from './directory.controller.js';
import { DirectoryService } from './directory.service.js';
import { RunsService } from './runs.service.js';
import { DirectorySignIn } from './sign-in.service.js';

/** Whoever asks who somebody is may have to ask the directory, so that part is there for all. */
@Global()
@Module({ providers: [DirectorySignIn], exports: [DirectorySignIn] })
export class DirectorySignInModule {}

@Module({
  imports: [StoresModule],
  controllers: [DirectoryController],
  providers: [DirectoryService, RunsService, ApplyService],
  exports: [DirectoryService],
})
export class DirectoryModule {}
