import { Controller, Get, HttpCode, Param, Put, Query, Req, Res, UseGuards } from '@nestjs/common';
import { ApiBody, ApiConsumes, ApiTags } from '@nestjs/swagger';
import { archiveQuerySchema, idSchema, uploadQuerySchema, type ConflictChoice, type UploadAnswer } from '@quay/contract';
import type { Request, Response } from 'express';
import { DataSource } from 'typeorm';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { Takes } from '../platform/openapi.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { AccessService } from '../stores/access.service.js';
import { fileBytes } from '../stores/stores.queries.js';
import { DownloadService } from './download.service.js';
import { UploadService } from './upload.service.js';

const id = valid<string>(idSchema.required());

@ApiTags('transfers')
@UseGuards(SignedInGuard)
@Controller('api')
export class TransfersController {
  constructor(
    private readonly uploads: UploadService,
    private readonly downloads: DownloadService,
    private readonly access: AccessService,
    private readonly db: DataSource,
  ) {}

  @Put('folders/:id/files')
  @HttpCode(201)
  @ApiConsumes('application/octet-stream')
  @ApiBody({ schema: { type: 'string', format: 'binary' } })
  @Takes('Upload a file: the body is its bytes', undefined, uploadQuerySchema)
  async upload(@Me() who: Who, @Param('id', id) folderId: string, @Query(valid(uploadQuerySchema)) query: { name: string; conflict: ConflictChoice; modifiedAt?: number }, @Req() req: Request): Promise<UploadAnswer> {
    return this.uploads.upload(who, { folderId, name: query.name, conflict: query.conflict, modifiedAt: query.modifiedAt ?? null, sizeBytes: announcedSize(req) }, req);
  }

  @Get('files/:id/content')
  @Takes('Download a file; byte ranges are served')
  async download(@Me() who: Who, @Param('id', id) nodeId: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const node = await this.access.requireNode(who, nodeId, 'download');
    const file = await fileBytes(this.db.manager, node.id);
    if (!file) throw notFound('This file');
    await this.downloads.file(req, res, file, req.query['show'] === '1' ? 'show' : 'save');
  }

  @Get('archive')
  @Takes('Download several items as one ZIP of exactly announced size', undefined, archiveQuerySchema)
  async archive(@Me() who: Who, @Query(valid(archiveQuerySchema)) query: { ids: string[] }, @Req() req: Request, @Res() res: Response): Promise<void> {
    const nodes = await this.access.requireNodes(who, query.ids, 'download');
    const name = nodes.length === 1 ? `${nodes[0]?.name}.zip` : `${nodes.length} items.zip`;
    await this.downloads.archive(req, res, name, await this.downloads.plan(query.ids));
  }
}

function announcedSize(req: Request): number | null {
  const text = req.headers['content-length'];
  if (text === undefined) return null;
  const size = Number(text);
  if (!Number.isSafeInteger(size) || size < 0) throw new Problem('invalid', 'upload.length', 'The announced length is not a number of bytes.');
  return size;
}
