import { Body, Controller, Delete, Get, HttpCode, Param, Patch, Post, Put, Query, UseGuards } from '@nestjs/common';
import {
  atSchema,
  changePolicySchema,
  changeTagSchema,
  copySchema,
  createFolderSchema,
  createTagSchema,
  findQuerySchema,
  folderQuerySchema,
  idSchema,
  keepSchema,
  moveSchema,
  nodeIdsSchema,
  pinSchema,
  policyEffectSchema,
  putBackSchema,
  quotaSchema,
  renameSchema,
  restorePastSchema,
  tagNodesSchema,
  type CopyNodes,
  type CreateFolder,
  type FindAnswer,
  type FindQuery,
  type FolderPage,
  type FolderQuery,
  type ItemTotal,
  type Litter,
  type MoveAnswer,
  type MoveNodes,
  type NodeIds,
  type NodeInfo,
  type PastFolder,
  type PersonQuota,
  type PolicyEffect,
  type PurgeAnswer,
  type PutBack,
  type RenameNode,
  type RestoreAnswer,
  type RestorePast,
  type StorePolicyText,
  type StoreSummary,
  type StoreUsage,
  type Tag,
  type TagNodes,
  type TrashAnswer,
  type TrashList,
  type UploadAnswer,
  type VersionList,
  type VersionRow,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { BranchService } from './branch.service.js';
import { FindService } from './find.service.js';
import { LabelsService } from './labels.service.js';
import { PastService } from './past.service.js';
import { PurgeService } from './purge.service.js';
import { StoresService } from './stores.service.js';
import { UsageService } from './usage.service.js';
import { versionNumber, VersionsService } from './versions.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('stores')
@UseGuards(SignedInGuard)
@Controller('api')
export class StoresController {
  constructor(
    private readonly service: StoresService,
    private readonly branches: BranchService,
    private readonly finder: FindService,
  ) {}

  @Get('stores')
  @For('signed-in')
  @Operation('The stores you may see')
  stores(@Me() who: Who): Promise<StoreSummary[]> {
    return this.service.stores(who);
  }

  @Get('folders/:id')
  @For('see')
  @Operation('One page of a folder', undefined, folderQuerySchema)
  folder(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Query(valid(folderQuerySchema)) query: FolderQuery,
  ): Promise<FolderPage> {
    return this.service.folder(who, folderId, query);
  }

  @Post('folders/:id/folders')
  @For('add')
  @Operation('Create a folder', createFolderSchema)
  createFolder(
    @Me() who: Who,
    @Param('id', id) parentId: string,
    @Body(valid(createFolderSchema)) asked: CreateFolder,
  ): Promise<{ id: string; name: string; created: boolean }> {
    return this.service.createFolder(who, parentId, asked);
  }

  @Post('sizes')
  @For('see')
  @HttpCode(200)
  @Operation('Files and bytes of items, with all that is in them', nodeIdsSchema)
  sizes(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<ItemTotal[]> {
    return this.service.sizes(who, asked.nodeIds);
  }

  @Get('nodes/:id')
  @For('see')
  @Operation('Everything about one item')
  info(@Me() who: Who, @Param('id', id) nodeId: string): Promise<NodeInfo> {
    return this.service.info(who, nodeId);
  }

  @Patch('nodes/:id')
  @For('change')
  @Operation('Rename', renameSchema)
  rename(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Body(valid(renameSchema)) asked: RenameNode,
  ): Promise<{ id: string; name: string }> {
    return this.service.rename(who, nodeId, asked.name);
  }

  @Post('nodes/move')
  @For('remove')
  @HttpCode(200)
  @Operation('Move items into another folder', moveSchema)
  move(@Me() who: Who, @Body(valid(moveSchema)) asked: MoveNodes): Promise<MoveAnswer> {
    return this.branches.move(who, asked);
  }

  @Post('nodes/copy')
  @For('add')
  @Operation('Copy items into a folder', copySchema)
  copy(@Me() who: Who, @Body(valid(copySchema)) asked: CopyNodes): Promise<TrashAnswer> {
    return this.branches.copy(who, asked.nodeIds, asked.toFolderId);
  }

  @Get('find')
  @For('signed-in')
  @Operation('Find items by name, tag, kind, size, date and person', undefined, findQuerySchema)
  find(@Me() who: Who, @Query(valid(findQuerySchema)) query: FindQuery): Promise<FindAnswer> {
    return this.finder.find(who, query);
  }

  @Get('recent')
  @For('signed-in')
  @Operation('Files that were changed last')
  recent(@Me() who: Who): Promise<FindAnswer> {
    return this.finder.recent(who);
  }

  @Get('pins')
  @For('signed-in')
  @Operation('What you have pinned')
  pins(@Me() who: Who): Promise<FindAnswer> {
    return this.finder.pinned(who);
  }
}

@ApiPart('recover')
@UseGuards(SignedInGuard)
@Controller('api')
export class RecoverController {
  constructor(
    private readonly service: StoresService,
    private readonly versions: VersionsService,
    private readonly past: PastService,
    private readonly purger: PurgeService,
  ) {}

  @Get('stores/:id/trash')
  @For('remove-somewhere')
  @Operation('What lies in the trash of a store')
  trashList(@Me() who: Who, @Param('id', id) storeId: string): Promise<TrashList> {
    return this.service.trashList(who, storeId);
  }

  @Post('trash')
  @For('remove')
  @HttpCode(200)
  @Operation('Move items to the trash', nodeIdsSchema)
  trash(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<TrashAnswer> {
    return this.service.trash(who, asked.nodeIds);
  }

  @Post('trash/put-back')
  @For('remove')
  @HttpCode(200)
  @Operation('Put items back where they were, or into another folder', putBackSchema)
  putBack(@Me() who: Who, @Body(valid(putBackSchema)) asked: PutBack): Promise<TrashAnswer> {
    return this.service.putBack(who, asked.nodeIds, asked.toFolderId);
  }

  @Post('trash/purge')
  @For('manage')
  @HttpCode(200)
  @Operation('Remove items in the trash for good', nodeIdsSchema)
  purge(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<PurgeAnswer> {
    return this.purger.purge(who, asked.nodeIds);
  }

  @Get('files/:id/versions')
  @For('see')
  @Operation('The versions of a file, newest first')
  list(@Me() who: Who, @Param('id', id) nodeId: string): Promise<VersionList> {
    return this.versions.list(who, nodeId);
  }

  @Post('files/:id/versions/:version/restore')
  @For('change')
  @HttpCode(200)
  @Operation('Make an earlier version the present one, as a new version')
  restore(@Me() who: Who, @Param('id', id) nodeId: string, @Param('version') version: string): Promise<UploadAnswer> {
    return this.versions.restore(who, nodeId, versionNumber(version));
  }

  @Patch('files/:id/versions/:version')
  @For('change')
  @Operation('Keep a version for ever, or not any more', keepSchema)
  keep(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Param('version') version: string,
    @Body(valid(keepSchema)) asked: { kept: boolean },
  ): Promise<VersionRow[]> {
    return this.versions.keep(who, nodeId, versionNumber(version), asked.kept);
  }

  @Get('folders/:id/past')
  @For('see')
  @Operation('A folder as it was at a moment', undefined, atSchema)
  pastFolder(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Query(valid(atSchema)) query: { at: string },
  ): Promise<PastFolder> {
    return this.past.folder(who, folderId, new Date(query.at));
  }

  @Post('folders/:id/restore')
  @For('change')
  @HttpCode(200)
  @Operation('Bring items of a folder back as they were at a moment', restorePastSchema)
  restorePast(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Body(valid(restorePastSchema)) asked: RestorePast,
  ): Promise<RestoreAnswer> {
    return this.past.restore(who, folderId, asked);
  }
}

@ApiPart('labels')
@UseGuards(SignedInGuard)
@Controller('api')
export class LabelsController {
  constructor(private readonly labels: LabelsService) {}

  @Get('tags')
  @For('signed-in')
  @Operation('The tags of the office')
  tags(): Promise<Tag[]> {
    return this.labels.tags();
  }

  @Post('tags')
  @For('staff')
  @Operation('Make a tag', createTagSchema)
  create(@Body(valid(createTagSchema)) asked: Omit<Tag, 'id'>): Promise<Tag> {
    return this.labels.createTag(asked);
  }

  @Patch('tags/:id')
  @For('run-server')
  @Operation('Change a tag (admin)', changeTagSchema)
  change(
    @Me() who: Who,
    @Param('id', id) tagId: string,
    @Body(valid(changeTagSchema)) asked: Partial<Omit<Tag, 'id'>>,
  ): Promise<Tag> {
    return this.labels.changeTag(who, tagId, asked);
  }

  @Delete('tags/:id')
  @For('run-server')
  @HttpCode(204)
  @Operation('Remove a tag from everywhere (admin)')
  remove(@Me() who: Who, @Param('id', id) tagId: string): Promise<void> {
    return this.labels.removeTag(who, tagId);
  }

  @Post('nodes/tags')
  @For('change')
  @HttpCode(204)
  @Operation('Put a tag on items, or take it off', tagNodesSchema)
  tag(@Me() who: Who, @Body(valid(tagNodesSchema)) asked: TagNodes): Promise<void> {
    return this.labels.tag(who, asked);
  }

  @Post('pins')
  @For('see')
  @HttpCode(204)
  @Operation('Pin items for yourself, or unpin them', pinSchema)
  pin(@Me() who: Who, @Body(valid(pinSchema)) asked: NodeIds & { on: boolean }): Promise<void> {
    return this.labels.pin(who, asked.nodeIds, asked.on);
  }
}

@ApiPart('storage')
@UseGuards(SignedInGuard)
@Controller('api')
export class UsageController {
  constructor(
    private readonly usages: UsageService,
    private readonly versions: VersionsService,
  ) {}

  @Get('stores/:id/usage')
  @For('see-somewhere')
  @Operation('What fills a store, its rules, and when it will be full')
  usage(@Me() who: Who, @Param('id', id) storeId: string): Promise<StoreUsage> {
    return this.usages.usage(who, storeId);
  }

  @Patch('stores/:id')
  @For('manage')
  @HttpCode(204)
  @Operation('Change the rules of a store', changePolicySchema)
  change(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Body(valid(changePolicySchema)) asked: Partial<StorePolicyText>,
  ): Promise<void> {
    return this.usages.changePolicy(who, storeId, asked);
  }

  @Get('stores/:id/policy-effect')
  @For('manage')
  @Operation('What a policy for versions would remove', undefined, policyEffectSchema)
  effect(
    @Me() who: Who,
    @Param('id', id) storeId: string,
    @Query(valid(policyEffectSchema)) query: { versionsKept: number; thinAfterDays: number | null },
  ): Promise<PolicyEffect> {
    return this.versions.effect(who, storeId, query);
  }

  @Get('stores/:id/litter')
  @For('remove-somewhere')
  @Operation('What desktop systems left behind in a store')
  litter(@Me() who: Who, @Param('id', id) storeId: string): Promise<Litter> {
    return this.usages.litter(who, storeId);
  }

  @Get('quotas')
  @For('run-people')
  @Operation('What each person uses, and may (admin)')
  quotas(): Promise<PersonQuota[]> {
    return this.usages.quotas();
  }

  @Get('quotas/mine')
  @For('signed-in')
  @Operation('What you use over all stores, and may')
  own(@Me() who: Who): Promise<PersonQuota> {
    return this.usages.own(who);
  }

  @Get('colleagues')
  @For('staff')
  @Operation('The names of colleagues')
  colleagues(): Promise<{ id: string; name: string }[]> {
    return this.usages.colleagues();
  }

  @Put('quotas/:id')
  @For('run-people')
  @HttpCode(204)
  @Operation("Set a person's quota (admin)", quotaSchema)
  setQuota(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Body(valid(quotaSchema)) asked: { quotaBytes: number | null },
  ): Promise<void> {
    return this.usages.setQuota(who, personId, asked.quotaBytes);
  }
}
