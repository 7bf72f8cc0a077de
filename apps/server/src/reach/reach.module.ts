import { Module } from '@nestjs/common';
import { AccountsService } from './accounts.service.js';
import { AddressesService } from './addresses.service.js';
import { CertificatesService } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { Doors } from './doors.js';
import { Gateway } from './gateway.js';
import { Pinholes } from './pinholes.js';
import { ExposureService } from './exposure.service.js';
import { NameProofs } from './name-proofs.service.js';
import { LookoutsService } from './lookouts.service.js';
import { VantagesService } from './vantages.service.js';
import { OrdersService } from './orders.service.js';
import { OtherNamesService } from './other-names.service.js';
import { NameServersService } from './name-servers.service.js';
import { ProofsService } from './proofs.service.js';
import { ProofController, ReachController } from './reach.controller.js';
import { RelayLines } from './relay-lines.js';
import { RemediesService } from './remedies.service.js';
import { RouterNews } from './router-news.js';
import { RouterService } from './router.service.js';
import { StepsService } from './steps.service.js';
import { ZoneService } from './zone.service.js';
import { UpkeepService } from './upkeep.service.js';

@Module({
  controllers: [ReachController, ProofController],
  providers: [
    OtherNamesService,
    NameServersService,
    Gateway,
    Pinholes,
    RouterService,
    ZoneService,
    AccountsService,
    NameProofs,
    CertificatesService,
    StepsService,
    OrdersService,
    ProofsService,
    LookoutsService,
    VantagesService,
    CheckService,
    RemediesService,
    UpkeepService,
    RouterNews,
    AddressesService,
    ExposureService,
    RelayLines,
    Doors,
  ],
  exports: [AddressesService, CertificatesService, ProofsService, RelayLines],
})
export class ReachModule {}
