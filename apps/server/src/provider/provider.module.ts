import { Module } from '@nestjs/common';
import { StoresModule } from '../stores/stores.module.js';
import { ProviderController, ProviderSignInController } from './provider.controller.js';
import { ProviderService } from './provider.service.js';
import { ProviderSignIn } from './sign-in.service.js';

@Module({
  imports: [StoresModule],
  controllers: [ProviderSignInController, ProviderController],
  providers: [ProviderService, ProviderSignIn],
})
export class ProviderModule {}
