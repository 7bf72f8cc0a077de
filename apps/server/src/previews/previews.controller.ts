import { Controller, Get, Inject, Param, Query, Req, Res, UseGuards } from '@nestjs/common';
import { decodeText, previewKind } from '@quay/core';
import { idSchema, type FileText, type PreviewFacts } from '@quay/contract';
import type { Request, Response } from 'express';
import { DataSource } from 'typeorm';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { AccessService } from '../access/access.service.js';
import { fileBytes, type FileBytes } from '../stores/branch.queries.js';
import { VersionsService, versionNumber } from '../stores/versions.service.js';
import { PreviewsService } from './previews.service.js';

const id = valid<string>(idSchema.required());
/** As much of a text as is shown. */
const SHOWN_BYTES = 512_000;

@ApiPart('previews')
@UseGuards(SignedInGuard)
@Controller('api/files/:id')
export class PreviewsController {
  constructor(
    private readonly previews: PreviewsService,
    private readonly access: AccessService,
    private readonly versions: VersionsService,
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
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
    const number = Number(page);
    if (!Number.isInteger(number) || number < 1 || number > 100_000) throw notFound('This page');
    await this.send(who, nodeId, version, number, req, res);
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
    const blob = await this.blobs.open(file.sha256);
    if (!blob)
      throw new Problem(
        'unexpected',
        'blob.missing',
        'The bytes of this file are missing or damaged on the server. Tell whoever runs it.',
      );
    try {
      const bytes = Buffer.alloc(Math.min(SHOWN_BYTES, blob.sizeBytes));
      await blob.read(bytes, 0, bytes.length);
      const decoded = decodeText(bytes);
      if (!decoded) throw new Problem('not-found', 'preview.none', 'This file does not hold text.');
      return { ...decoded, truncated: blob.sizeBytes > SHOWN_BYTES, sizeBytes: blob.sizeBytes };
    } finally {
      await blob.close();
    }
  }

  private async send(
    who: Who,
    nodeId: string,
    version: string | undefined,
    what: 'thumb' | 'large' | number,
    req: Request,
    res: Response,
  ): Promise<void> {
    const file = await this.file(who, nodeId, version);
    const etag = `"${file.sha256.toString('base64url')}-${what}"`;
    if (req.headers['if-none-match'] === etag) {
      res.status(304).setHeader('ETag', etag).end();
      return;
    }
    const bytes = await this.previews.picture(nodeId, file.sha256, file.name, what);
    if (!bytes) {
      // RFC 9110 §15.3.3: asked for, and not there yet.
      res.status(202).set({ 'Retry-After': '1', 'Cache-Control': 'no-store' }).json({ code: 'preview.not-yet' });
      return;
    }
    res
      .writeHead(200, {
        'Content-Type': 'image/webp',
        'Content-Length': bytes.length,
        ETag: etag,
        'Cache-Control': 'private, no-cache',
        'Content-Security-Policy': "sandbox; default-src 'none'",
      })
      .end(bytes);
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
