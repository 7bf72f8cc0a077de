import { Body, Controller, Get, HttpCode, Param, Patch, Post, Query, UseGuards } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { createFolderSchema, folderQuerySchema, idSchema, namesSchema, nodeIdsSchema, renameSchema, type CreateFolder, type FolderPage, type ItemTotal, type NodeIds, type RenameNode, type StoreSummary, type TrashAnswer, type TrashItem } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { Takes } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { StoresService } from './stores.service.js';

const id = valid<string>(idSchema.required());

@ApiTags('stores')
@UseGuards(SignedInGuard)
@Controller('api')
export class StoresController {
  constructor(private readonly service: StoresService) {}

  @Get('stores')
  @Takes('The stores you may see')
  stores(@Me() who: Who): Promise<StoreSummary[]> {
    return this.service.stores(who);
  }

  @Get('stores/:id/trash')
  @Takes('What lies in the trash of a store')
  trashList(@Me() who: Who, @Param('id', id) storeId: string): Promise<TrashItem[]> {
    return this.service.trashList(who, storeId);
  }

  @Get('folders/:id')
  @Takes('One page of a folder', undefined, folderQuerySchema)
  folder(@Me() who: Who, @Param('id', id) folderId: string, @Query(valid(folderQuerySchema)) query: { after?: string; litter?: boolean }): Promise<FolderPage> {
    return this.service.folder(who, folderId, query);
  }

  @Post('folders/:id/folders')
  @Takes('Create a folder', createFolderSchema)
  createFolder(@Me() who: Who, @Param('id', id) parentId: string, @Body(valid(createFolderSchema)) asked: CreateFolder): Promise<{ id: string; name: string; created: boolean }> {
    return this.service.createFolder(who, parentId, asked);
  }

  @Post('folders/:id/check-names')
  @HttpCode(200)
  @Takes('Which names cannot be used, or are taken', namesSchema)
  checkNames(@Me() who: Who, @Param('id', id) folderId: string, @Body(valid(namesSchema)) asked: { names: string[] }): Promise<{ name: string; code: string }[]> {
    return this.service.checkNames(who, folderId, asked.names);
  }

  @Post('sizes')
  @HttpCode(200)
  @Takes('Files and bytes of items, with all that is in them', nodeIdsSchema)
  sizes(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<ItemTotal[]> {
    return this.service.sizes(who, asked.nodeIds);
  }

  @Get('nodes/:id')
  @Takes('One item')
  item(@Me() who: Who, @Param('id', id) nodeId: string) {
    return this.service.item(who, nodeId);
  }

  @Patch('nodes/:id')
  @Takes('Rename', renameSchema)
  rename(@Me() who: Who, @Param('id', id) nodeId: string, @Body(valid(renameSchema)) asked: RenameNode): Promise<{ id: string; name: string }> {
    return this.service.rename(who, nodeId, asked.name);
  }

  @Post('trash')
  @HttpCode(200)
  @Takes('Move items to the trash', nodeIdsSchema)
  trash(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<TrashAnswer> {
    return this.service.trash(who, asked.nodeIds);
  }

  @Post('trash/put-back')
  @HttpCode(200)
  @Takes('Put items back where they were', nodeIdsSchema)
  putBack(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<TrashAnswer> {
    return this.service.putBack(who, asked.nodeIds);
  }
}
