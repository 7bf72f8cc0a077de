import { Body, Controller, Get, Param, Patch, Post, Put, UseGuards } from '@nestjs/common';
import {
  idSchema,
  storeArchivedSchema,
  storeNameSchema,
  storeOrderSchema,
  type StoreArchived,
  type StoreName,
  type StoreOrder,
  type StoreSettings,
  type WouldDo,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { StoreSettingsService } from './store-settings.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings/stores')
export class StoreSettingsController {
  constructor(private readonly stores: StoreSettingsService) {}

  @Get()
  @For('run-server')
  @Operation('The common stores')
  list(): Promise<StoreSettings[]> {
    return this.stores.list();
  }

  @Post()
  @For('run-server')
  @Operation('Make a common store; all staff may edit in it', storeNameSchema)
  make(@Me() who: Who, @Body(valid(storeNameSchema)) asked: StoreName): Promise<StoreSettings[]> {
    return this.stores.make(who, asked);
  }

  @Put('order')
  @For('run-server')
  @Operation('Put the stores in an order', storeOrderSchema)
  order(@Me() who: Who, @Body(valid(storeOrderSchema)) asked: StoreOrder): Promise<StoreSettings[]> {
    return this.stores.order(who, asked);
  }

  @Patch(':id')
  @For('run-server')
  @Operation('Rename a store', storeNameSchema)
  rename(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Body(valid(storeNameSchema)) asked: StoreName,
  ): Promise<StoreSettings[]> {
    return this.stores.rename(who, storeId, asked);
  }

  @Get(':id/archive')
  @For('run-server')
  @Operation('What archiving a store would do')
  archiveWouldDo(@Me() who: Who, @Param('id', id) storeId: string): Promise<WouldDo> {
    return this.stores.archiveWouldDo(who, storeId);
  }

  @Put(':id/archive')
  @For('run-server')
  @Operation('Archive a store, or bring it back', storeArchivedSchema)
  archive(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Body(valid(storeArchivedSchema)) asked: StoreArchived,
  ): Promise<StoreSettings[]> {
    return this.stores.archive(who, storeId, asked);
  }
}
