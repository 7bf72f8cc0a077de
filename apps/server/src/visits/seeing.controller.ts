import { Body, Controller, Get, HttpCode, Inject, Param, Post, Query, Req, Res, UseGuards } from '@nestjs/common';
import {
  idSchema,
  pageLanguageSchema,
  seeDraftSchema,
  seePageSchema,
  type PageLanguage,
  type SeeDraft,
  type SeenPage,
  type SeePage,
} from '@quay/contract';
import type { Request, Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { CONFIG, type Config } from '../platform/config.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { PageTexts } from './page-texts.js';
import { SeeingService } from './seeing.service.js';

const id = valid<string>(idSchema.required());

/** The visitor's page for whoever publishes, before and after. */
@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api')
export class SeeingController {
  private readonly texts: PageTexts;

  constructor(
    private readonly seeing: SeeingService,
    @Inject(CONFIG) config: Config,
  ) {
    this.texts = new PageTexts(config.webRoot ?? '.', 'as-visitor.html');
  }

  @Post('shares/seen')
  @For('publish')
  @HttpCode(200)
  @Operation(
    'The page of a share that is being put together, as a visitor would get it; nothing is published',
    seeDraftSchema,
  )
  draft(@Me() who: Who, @Body(valid(seeDraftSchema)) { share, ...asked }: SeeDraft): Promise<SeenPage> {
    return this.seeing.ofDraft(who, share, asked);
  }

  @Post('shares/:id/seen')
  @For('publisher')
  @HttpCode(200)
  @Operation('The page of a share as a visitor gets it; nothing is counted', seePageSchema)
  share(@Me() who: Who, @Param('id', id) shareId: string, @Body(valid(seePageSchema)) asked: SeePage) {
    return this.seeing.ofShare(who, shareId, asked);
  }

  @Get('visitor-page/languages')
  @For('signed-in')
  @Operation('The languages that the visitor page has texts in')
  async languages(): Promise<{ languages: string[] }> {
    return { languages: await this.texts.tags() };
  }

  @Get('visitor-page')
  @For('signed-in')
  @Operation(
    'The visitor page without a share, to be shown within a page of this server',
    undefined,
    pageLanguageSchema,
  )
  async page(
    @Query(valid(pageLanguageSchema)) { language }: PageLanguage,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const page = await this.texts.page(language ?? req.headers['accept-language'] ?? '', '../');
    res.set({ 'Cache-Control': 'no-cache', Vary: 'Accept-Language' });
    res.type('html').send(page);
  }
}
