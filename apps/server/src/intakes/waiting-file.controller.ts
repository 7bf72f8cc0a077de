import { Controller, Get, Param, Req, Res, UseGuards } from '@nestjs/common';
import { idSchema, type FileText, type PreviewFacts } from '@quay/contract';
import { previewKind } from '@quay/core';
import type { Request, Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { PreviewsService } from '../previews/previews.service.js';
import { pageNumber, sendPicture, type Shown } from '../previews/show.js';
import { DownloadService } from '../transfers/download.service.js';
import { TrayService } from './tray.service.js';

const id = valid<string>(idSchema.required());

/** One file of a deposit, while it waits. */
@ApiPart('intakes')
@UseGuards(SignedInGuard)
@Controller('api/deposits/:id/files/:fileId')
export class WaitingFileController {
  constructor(
    private readonly tray: TrayService,
    private readonly previews: PreviewsService,
    private readonly downloads: DownloadService,
  ) {}

  @Get('content')
  @For('manage')
  @Operation('Take a file that waits, to look at it')
  async content(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const { file, going } = await this.tray.bytes(who, depositId, fileId);
    await this.downloads.file(req, res, file, 'save', going);
  }

  @Get('preview')
  @For('manage')
  @Operation('How a file that waits can be looked at')
  async facts(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
  ): Promise<PreviewFacts> {
    const { name, sha256 } = await this.tray.shown(who, depositId, fileId);
    return { kind: previewKind(name), pages: await this.previews.pages(sha256) };
  }

  @Get('thumb')
  @For('manage')
  @Operation('A small picture of a file that waits (WebP); 202 while it is being made')
  thumb(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    return this.send([who, depositId, fileId], 'thumb', req, res);
  }

  @Get('large')
  @For('manage')
  @Operation('A picture of a file that waits, that fills the screen (WebP)')
  large(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    return this.send([who, depositId, fileId], 'large', req, res);
  }

  @Get('pages/:page')
  @For('manage')
  @Operation('One page of a document that waits, from 1, as a picture (WebP)')
  page(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
    @Param('page') page: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    return this.send([who, depositId, fileId], pageNumber(page), req, res);
  }

  @Get('text')
  @For('manage')
  @Operation('The text of a file that waits, as far as it is shown')
  async text(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Param('fileId', id) fileId: string,
  ): Promise<FileText> {
    return this.previews.text((await this.tray.shown(who, depositId, fileId)).sha256);
  }

  private async send(
    [who, depositId, fileId]: [Who, string, string],
    what: Shown,
    req: Request,
    res: Response,
  ): Promise<void> {
    await sendPicture(this.previews, await this.tray.shown(who, depositId, fileId), what, req, res);
  }
}
