import { Controller, Get, Param, Query, Req, Res, UseGuards } from '@nestjs/common';
import { previewKind } from '@quay/core';
import { idSchema, type FileText, type PreviewFacts } from '@quay/contract';
import type { Request, Response } from 'express';
import { DataSource } from 'typeorm';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { notFound } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { AccessService } from '../access/access.service.js';
import { fileBytes, type FileBytes } from '../stores/branch.queries.js';
import { VersionsService, versionNumber } from '../stores/versions.service.js';
import { PreviewsService } from './previews.service.js';
import { pageNumber, sendPicture, type Shown } from './show.js';

const id = valid<string>(idSchema.required());

@ApiPart('previews')
@UseGuards(SignedInGuard)
@Controller('api/files/:id')
export class PreviewsController {
  constructor(
    private readonly previews: PreviewsService,
    private readonly access: AccessService,
    private readonly versions: VersionsService,
    private readonly db: DataSource,
  ) {}

  @Get('preview')
  @For('see')
  @Operation('How a file can be looked at')
  async facts(@Me() who: Who, @Param('id', id) nodeId: string): Promise<PreviewFacts> {
    const file = await this.file(who, nodeId, undefined);
    return { kind: previewKind(file.name), pages: await this.previews.pages(file.sha256) };
  }

  @Get('thumb')
  @For('see')
  @Operation('A small picture (WebP); 202 while it is being made')
  async thumb(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    await this.send(who, nodeId, undefined, 'thumb', req, res);
  }

  @Get('large')
  @For('see')
  @Operation('A picture that fills the screen (WebP)')
  async large(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Query('version') version: string | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    await this.send(who, nodeId, version, 'large', req, res);
  }

  @Get('pages/:page')
  @For('see')
  @Operation('One page of a document, from 1, as a picture (WebP)')
  async page(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Param('page') page: string,
    @Query('version') version: string | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    await this.send(who, nodeId, version, pageNumber(page), req, res);
  }

  @Get('text')
  @For('see')
  @Operation('The text of a file, as far as it is shown')
  async text(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Query('version') version: string | undefined,
  ): Promise<FileText> {
    const file = await this.file(who, nodeId, version);
    return this.previews.text(file.sha256);
  }

  private async send(
    who: Who,
    nodeId: string,
    version: string | undefined,
    what: Shown,
    req: Request,
    res: Response,
  ): Promise<void> {
    const file = await this.file(who, nodeId, version);
    await sendPicture(this.previews, file, what, req, res);
  }

  private async file(who: Who, nodeId: string, version: string | undefined): Promise<FileBytes> {
    // Looking is what the level "view" is for; the bytes themselves need "download".
    await this.access.requireNode(who, nodeId, 'see');
    const file =
      version === undefined
        ? await fileBytes(this.db.manager, nodeId)
        : await this.versions.bytes(who, nodeId, versionNumber(version), 'see');
    if (!file) throw notFound('This file');
    return file;
  }
}
