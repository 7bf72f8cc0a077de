import { Module, type DynamicModule } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { AccessModule } from './access/access.module.js';
import { AccountsModule } from './accounts/accounts.module.js';
import { AdoptModule } from './adopt/adopt.module.js';
import { BackupsModule } from './backups/backups.module.js';
import { DirectoryModule, DirectorySignInModule } from './directory/directory.module.js';
import { HealthModule } from './health/health.module.js';
import { LedgerEntry } from './ledger/ledger.entity.js';
import { LedgerModule } from './ledger/ledger.module.js';
import { LiveModule } from './live/live.module.js';
import { Person, RecoveryCode, SecondFactorRow, Session } from './people/people.entity.js';
import { PeopleModule } from './people/people.module.js';
import type { Config } from './platform/config.js';
import { dataSourceOptions } from './platform/database/database.js';
import { PlatformModule } from './platform/platform.module.js';
import { PreviewsModule } from './previews/previews.module.js';
import { ProviderModule } from './provider/provider.module.js';
import { ReachModule } from './reach/reach.module.js';
import { Share, ShareItem } from './shares/shares.entity.js';
import { SettingsModule } from './settings/settings.module.js';
import { SetupModule } from './setup/setup.module.js';
import { HandOverModule } from './hand-over/hand-over.module.js';
import { IntakesModule } from './intakes/intakes.module.js';
import { SharesModule } from './shares/shares.module.js';
import { FileVersion, Node, Store } from './stores/stores.entity.js';
import { StoresModule } from './stores/stores.module.js';
import { TransfersModule } from './transfers/transfers.module.js';
import { VisitsModule } from './visits/visits.module.js';
import { WorkModule } from './work/work.module.js';

export const ENTITIES = [
  Person,
  Session,
  SecondFactorRow,
  RecoveryCode,
  LedgerEntry,
  Store,
  Node,
  FileVersion,
  Share,
  ShareItem,
];

@Module({})
export class AppModule {
  static with(config: Config): DynamicModule {
    return {
      module: AppModule,
      imports: [
        TypeOrmModule.forRoot({
          ...dataSourceOptions(config.databaseUrl, ENTITIES),
          retryAttempts: 20,
          retryDelay: 500,
        }),
        PlatformModule.with(config),
        AccessModule,
        LedgerModule,
        DirectorySignInModule,
        PeopleModule,
        StoresModule,
        PreviewsModule,
        TransfersModule,
        AdoptModule,
        BackupsModule,
        SharesModule,
        HandOverModule,
        IntakesModule,
        ReachModule,
        LiveModule,
        VisitsModule,
        WorkModule,
        SetupModule,
        SettingsModule,
        AccountsModule,
        DirectoryModule,
        ProviderModule,
        HealthModule,
      ],
    };
  }
}
