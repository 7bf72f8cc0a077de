import { Body, Controller, Get, HttpCode, Param, Post, Put, Query, Req, Res, UseGuards } from '@nestjs/common';
import {
  archiveQuerySchema,
  batchQuerySchema,
  checkFilesSchema,
  finishSchema,
  idSchema,
  uploadQuerySchema,
  type BatchAnswer,
  type CheckAnswer,
  type ConflictChoice,
  type FilesToCheck,
  type OpenUpload,
  type UploadAnswer,
} from '@quay/contract';
import type { Request, Response } from 'express';
import { DataSource } from 'typeorm';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation, TakesBytes } from '../platform/openapi.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { AccessService } from '../access/access.service.js';
import { fileBytes } from '../stores/branch.queries.js';
import { versionNumber, VersionsService } from '../stores/versions.service.js';
import { DownloadService } from './download.service.js';
import { ResumableService } from './resumable.service.js';
import { UploadService } from './upload.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('transfers')
@UseGuards(SignedInGuard)
@Controller('api')
export class TransfersController {
  constructor(
    private readonly uploads: UploadService,
    private readonly downloads: DownloadService,
    private readonly resumable: ResumableService,
    private readonly versions: VersionsService,
    private readonly access: AccessService,
    private readonly db: DataSource,
  ) {}

  @Put('folders/:id/files')
  @For('add')
  @HttpCode(201)
  @TakesBytes('application/octet-stream')
  @Operation('Upload a file: the body is its bytes', undefined, uploadQuerySchema)
  async upload(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Query(valid(uploadQuerySchema)) query: { name: string; conflict: ConflictChoice; modifiedAt?: number },
    @Req() req: Request,
  ): Promise<UploadAnswer> {
    return this.uploads.upload(
      this.access.bringer(who),
      {
        folderId,
        name: query.name,
        conflict: query.conflict,
        modifiedAt: query.modifiedAt ?? null,
        sizeBytes: announcedSize(req),
      },
      req,
    );
  }

  @Post('folders/:id/check-files')
  @For('add')
  @HttpCode(200)
  @Operation('Looks at a list of files before they are sent: names, types, sizes, room', checkFilesSchema)
  check(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Body(valid(checkFilesSchema)) asked: FilesToCheck,
  ): Promise<CheckAnswer> {
    return this.uploads.check(this.access.bringer(who), folderId, asked);
  }

  @Put('folders/:id/batch')
  @For('add')
  @HttpCode(200)
  @TakesBytes('application/x-tar')
  @Operation(
    'Upload many small files: the body is a tar archive; sent twice with one id it counts once',
    undefined,
    batchQuerySchema,
  )
  batch(
    @Me() who: Who,
    @Param('id', id) folderId: string,
    @Query(valid(batchQuerySchema)) query: { batchId: string; conflict: ConflictChoice },
    @Req() req: Request,
  ): Promise<BatchAnswer> {
    return this.uploads.batch(this.access.bringer(who), folderId, query, req);
  }

  @Get('uploads')
  @For('signed-in')
  @Operation(
    'Your uploads that have not ended. Uploads are sent here by the protocol tus 1.0: POST, HEAD, PATCH, DELETE',
  )
  open(@Me() who: Who): Promise<OpenUpload[]> {
    return this.resumable.open(who);
  }

  @Get('uploads/:id')
  @For('mine')
  @Operation('What became of an upload')
  outcome(
    @Me() who: Who,
    @Param('id', id) uploadId: string,
  ): Promise<{ answer: UploadAnswer | null; offsetBytes: number }> {
    return this.resumable.outcome(this.access.bringer(who), uploadId);
  }

  @Post('uploads/:id/finish')
  @For('mine')
  @HttpCode(200)
  @Operation('Ends a complete upload whose name was taken', finishSchema)
  finish(
    @Me() who: Who,
    @Param('id', id) uploadId: string,
    @Body(valid(finishSchema)) asked: { conflict: ConflictChoice },
  ): Promise<UploadAnswer> {
    return this.resumable.finish(this.access.bringer(who), uploadId, asked.conflict);
  }

  @Get('files/:id/content')
  @For('read')
  @Operation('Download a file; byte ranges are served')
  async download(
    @Me() who: Who,
    @Param('id', id) nodeId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const node = await this.access.requireNode(who, nodeId, 'read');
    const { version } = req.query;
    const file =
      typeof version === 'string'
        ? await this.versions.bytes(who, node.id, versionNumber(version), 'read')
        : await fileBytes(this.db.manager, node.id);
    if (!file) throw notFound('This file');
    const going = await this.access.going(who, [node.id], 'read');
    await this.downloads.file(req, res, file, req.query['show'] === '1' ? 'show' : 'save', going);
  }

  @Get('archive')
  @For('read')
  @Operation('Download several items as one ZIP of exactly announced size', undefined, archiveQuerySchema)
  async archive(
    @Me() who: Who,
    @Query(valid(archiveQuerySchema)) query: { ids: string[] },
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const nodes = await this.access.requireNodes(who, query.ids, 'read');
    const name = nodes.length === 1 ? `${nodes[0]?.name}.zip` : `${nodes.length} items.zip`;
    const going = await this.access.going(who, query.ids, 'read');
    await this.downloads.archive(req, res, name, await this.downloads.plan(who.personId, query.ids), going);
  }
}

function announcedSize(req: Request): number | null {
  const text = req.headers['content-length'];
  if (text === undefined) return null;
  const size = Number(text);
  if (!Number.isSafeInteger(size) || size < 0)
    throw new Problem('invalid', 'upload.length', 'The announced length is not a number of bytes.');
  return size;
}
