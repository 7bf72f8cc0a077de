import { Body, Controller, Delete, Get, Param, Patch, Post, Put, Query, UseGuards } from '@nestjs/common';
import {
  changeFolderAccessSchema,
  explainQuerySchema,
  handOverSchema,
  idSchema,
  newGrantSchema,
  replaceGrantSchema,
  type ChangeFolderAccess,
  type ExplainQuery,
  type Explanation,
  type FolderAccess,
  type Grantable,
  type HomeRow,
  type NewGrant,
  type ReplaceGrant,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { GrantsService } from './grants.service.js';
import { HomesService } from './homes.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('access')
@UseGuards(SignedInGuard)
@Controller('api')
export class AccessController {
  constructor(
    private readonly grants: GrantsService,
    private readonly homes: HomesService,
  ) {}

  @Get('folders/:id/access')
  @For('see-access')
  @Operation('Who reaches a folder, and why')
  ofFolder(@Me() who: Who, @Param('id', id) folderId: string): Promise<FolderAccess> {
    return this.grants.ofFolder(who, folderId);
  }

  @Get('folders/:id/access/explain')
  @For('see-access')
  @Operation('What somebody could do there at a moment, and why, or why not', undefined, explainQuerySchema)
  explain(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Query(valid(explainQuerySchema)) query: ExplainQuery,
  ): Promise<Explanation> {
    return this.grants.explain(who, folderId, query);
  }

  @Patch('folders/:id/access')
  @For('manage-access')
  @Operation(
    'Whether a folder takes over what is granted above it; what contributors see of others',
    changeFolderAccessSchema,
  )
  changeFolder(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Body(valid(changeFolderAccessSchema)) asked: ChangeFolderAccess,
  ): Promise<FolderAccess> {
    return this.grants.changeFolder(who, folderId, asked);
  }

  @Post('folders/:id/grants')
  @For('manage-access')
  @Operation('Grant a person, a group or all staff a level on a folder and everything in it', newGrantSchema)
  grant(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Body(valid(newGrantSchema)) asked: NewGrant,
  ): Promise<FolderAccess> {
    return this.grants.grant(who, folderId, asked);
  }

  @Put('grants/:id')
  @For('manage-access')
  @Operation('Another level or another end: the grant ends, and a new one begins', replaceGrantSchema)
  replace(
    @Me() who: Who,
    @Param('id', id) grantId: string,
    @Body(valid(replaceGrantSchema)) asked: ReplaceGrant,
  ): Promise<FolderAccess> {
    return this.grants.replace(who, grantId, asked);
  }

  @Delete('grants/:id')
  @For('manage-access')
  @Operation('End a grant')
  end(@Me() who: Who, @Param('id', id) grantId: string): Promise<FolderAccess> {
    return this.grants.end(who, grantId);
  }

  @Get('grantable')
  @For('staff')
  @Operation('Whom something can be granted')
  grantable(): Promise<Grantable> {
    return this.grants.grantable();
  }

  @Get('homes')
  @For('run-people')
  @Operation('Homes, and whose they are')
  listHomes(): Promise<HomeRow[]> {
    return this.homes.list();
  }

  @Post('homes/:id/hand-over')
  @For('run-people')
  @Operation('Hand the home of somebody who has left over to somebody else', handOverSchema)
  handOver(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Body(valid(handOverSchema)) asked: { toPersonId: string },
  ): Promise<HomeRow[]> {
    return this.homes.handOver(who, storeId, asked.toPersonId);
  }
}
