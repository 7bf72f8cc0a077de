import { Body, Controller, Get, HttpCode, Param, Patch, Post, Put, Query, Res, UseGuards } from '@nestjs/common';
import {
  askStaysSchema,
  changeShareSchema,
  createShareSchema,
  idSchema,
  nodeIdsSchema,
  shareListQuerySchema,
  shareListViewSchema,
  sharesTodayQuerySchema,
  tidySchema,
  type AskStays,
  type CameOfIt,
  type ChangeShare,
  type FilesStay,
  type CreateShare,
  type KnownRecipient,
  type NodeIds,
  type NodeShares,
  type ShareList,
  type ShareListQuery,
  type ShareListView,
  type ShareMarks,
  type ShareRow,
  type ShareSheet,
  type SharedWithMe,
  type SharesToday,
  type SharesTodayQuery,
  type SharesUsing,
  type Tidied,
  type TidyAsked,
  type TidyPreview,
} from '@quay/contract';
import contentDisposition from 'content-disposition';
import type { Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { CameService } from './came.service.js';
import { ClearingService } from './clearing.service.js';
import { ForMeService } from './for-me.service.js';
import { ShareListService } from './list.service.js';
import { ShareListViewService } from './list-view.service.js';
import { TidyService } from './tidy.service.js';
import { SuggestionsService } from './suggestions.service.js';
import { SharesService } from './shares.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/shares')
export class SharesController {
  constructor(
    private readonly service: SharesService,
    private readonly lists: ShareListService,
    private readonly mine: ForMeService,
    private readonly clearing: ClearingService,
    private readonly cameOfIt: CameService,
    private readonly suggestions: SuggestionsService,
    private readonly tidying: TidyService,
    private readonly listView: ShareListViewService,
  ) {}

  @Get()
  @For('signed-in')
  @Operation('Your shares (the admin: all), a page at a time', undefined, shareListQuerySchema)
  list(@Me() who: Who, @Query(valid(shareListQuerySchema)) query: ShareListQuery): Promise<ShareList> {
    return this.lists.list(who, query);
  }

  @Get('today')
  @For('signed-in')
  @Operation('The windows of a span, and what needs a hand', undefined, sharesTodayQuerySchema)
  today(@Me() who: Who, @Query(valid(sharesTodayQuerySchema)) span: SharesTodayQuery): Promise<SharesToday> {
    return this.lists.today(who, span);
  }

  @Get('for-me')
  @For('signed-in')
  @Operation('What is shared with you: by name, by a group, or by your mail address')
  forMe(@Me() who: Who): Promise<SharedWithMe[]> {
    return this.mine.list(who);
  }

  @Get('view')
  @For('signed-in')
  @Operation('How you like your list of shares: columns, and filters that you keep')
  view(@Me() who: Who): Promise<ShareListView> {
    return this.listView.view(who);
  }

  @Put('view')
  @For('signed-in')
  @Operation('Change how you like your list of shares', shareListViewSchema)
  keepView(@Me() who: Who, @Body(valid(shareListViewSchema)) view: ShareListView): Promise<ShareListView> {
    return this.listView.keep(who, view);
  }

  @Get('tidy')
  @For('signed-in')
  @Operation('Which of your shares (the admin: of all) may be taken off the list for good, because they are over')
  tidyPreview(@Me() who: Who): Promise<TidyPreview> {
    return this.tidying.preview(who);
  }

  @Post('tidy')
  @For('signed-in')
  @HttpCode(200)
  @Operation('Take shares that are over off the list, some at a time; asked until none is left', tidySchema)
  tidy(@Me() who: Who, @Body(valid(tidySchema)) { kinds }: TidyAsked): Promise<Tidied> {
    return this.tidying.tidy(who, kinds);
  }

  @Get('recipients')
  @For('publish-outside')
  @Operation('Whom you may mean when you make a list: those whom your shares went to, and people with an account')
  recipients(@Me() who: Who): Promise<KnownRecipient[]> {
    return this.suggestions.known(who);
  }

  @Post()
  @For('publish')
  @Operation('Publish items', createShareSchema)
  publish(@Me() who: Who, @Body(valid(createShareSchema)) asked: CreateShare): Promise<ShareSheet> {
    return this.service.publish(who, asked);
  }

  @Get(':id')
  @For('publisher')
  @Operation('A share with its link, visits and history')
  sheet(@Me() who: Who, @Param('id', id) shareId: string): Promise<ShareSheet> {
    return this.service.sheet(who, shareId);
  }

  @Get(':id/came')
  @For('publisher')
  @Operation('What came of a share: visits over time, what was taken by whom, and other shares of the same')
  came(@Me() who: Who, @Param('id', id) shareId: string): Promise<CameOfIt> {
    return this.cameOfIt.of(who, shareId);
  }

  @Get(':id/visits.csv')
  @For('publisher')
  @Operation('All visits of a share as a table (RFC 4180)')
  async visits(@Me() who: Who, @Param('id', id) shareId: string, @Res() res: Response): Promise<void> {
    const { name, text } = await this.service.visitsTable(who, shareId);
    res.setHeader('Content-Disposition', contentDisposition(name));
    res.type('text/csv; charset=utf-8').send(text);
  }

  @Patch(':id')
  @For('publisher')
  @Operation('Change, extend, withdraw or open again', changeShareSchema)
  change(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Body(valid(changeShareSchema)) asked: ChangeShare,
  ): Promise<ShareSheet | ShareRow> {
    return this.service.change(who, shareId, asked);
  }

  @Get('of/:id')
  @For('see')
  @Operation('Where an item is shared, and when outsiders last opened it')
  ofNode(@Me() who: Who, @Param('id', id) nodeId: string): Promise<NodeShares> {
    return this.lists.ofNode(who, nodeId);
  }

  @Post('marks')
  @For('see')
  @HttpCode(200)
  @Operation('The state of the shares that publish these items', nodeIdsSchema)
  marks(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<ShareMarks> {
    return this.lists.marks(who, asked.nodeIds);
  }

  // Of what somebody does not see, nothing is answered.
  @Post('using')
  @For('signed-in')
  @HttpCode(200)
  @Operation('The shares that could be opened and hold these items', nodeIdsSchema)
  using(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<SharesUsing> {
    return this.lists.using(who, asked.nodeIds);
  }

  // Of what somebody does not see, nothing is answered.
  @Post('stays')
  @For('signed-in')
  @HttpCode(200)
  @Operation('Which files stay when a share of them closes, because another needs them', askStaysSchema)
  stays(@Me() who: Who, @Body(valid(askStaysSchema)) asked: AskStays): Promise<FilesStay> {
    return this.clearing.stays(who, asked.nodeIds, asked.exceptShareId ?? null);
  }

  @Post('affected')
  @For('remove')
  @HttpCode(200)
  @Operation('Shares that would lose an item if these went to the trash', nodeIdsSchema)
  affected(@Me() who: Who, @Body(valid(nodeIdsSchema)) asked: NodeIds): Promise<{ id: string; title: string }[]> {
    return this.lists.affected(who, asked.nodeIds);
  }
}
