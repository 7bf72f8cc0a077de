import { Global, Module } from '@nestjs/common';
import { AccessController } from './access.controller.js';
import { AccessService } from './access.service.js';
import { GrantsService } from './grants.service.js';
import { GroupsController } from './groups.controller.js';
import { GroupsService } from './groups.service.js';
import { HomesService } from './homes.service.js';
import { QuestionsService } from './questions.service.js';
import { ReachedService } from './reached.service.js';
import { TableController } from './table.controller.js';
import { TableService } from './table.service.js';

/** Every capability asks what somebody may do. */
@Global()
@Module({
  controllers: [AccessController, GroupsController, TableController],
  providers: [
    AccessService,
    GrantsService,
    GroupsService,
    HomesService,
    QuestionsService,
    ReachedService,
    TableService,
  ],
  exports: [AccessService, GrantsService, GroupsService, HomesService, ReachedService, TableService],
})
export class AccessModule {}
