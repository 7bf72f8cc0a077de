import { Injectable } from '@nestjs/common';
import type { FileText, PreviewFacts } from '@quay/contract';
import { marksPictures, previewKind, showsTextAsPages } from '@quay/core';
import type { Request, Response } from 'express';
import { notFound, Problem } from '../platform/problems/problem.js';
import { PreviewsService } from '../previews/previews.service.js';
import { sendMade, sendPicture, type Marks, type Shown } from '../previews/show.js';
import { CopiesService } from './copies.service.js';
import { Takings } from './takings.service.js';
import { VisitsService, type Visitor } from './visits.service.js';

/** What visitors look at without taking it: pictures, marked where the share marks, and texts. */
@Injectable()
export class LookingService {
  constructor(
    private readonly visits: VisitsService,
    private readonly previews: PreviewsService,
    private readonly copies: CopiesService,
    private readonly takings: Takings,
  ) {}

  /** A file that this visit may look at. @throws Problem share.no-such-file */
  seen(visitor: Visitor, nodeId: string): ReturnType<VisitsService['seen']> {
    return this.visits.seen(visitor, nodeId);
  }

  /** @throws Problem share.no-such-file, preview.none */
  async picture(visitor: Visitor, nodeId: string, what: Shown, req: Request, res: Response): Promise<void> {
    const { share, visit, file, handing, isTheirs } = await this.seen(visitor, nodeId);
    if (showsTextAsPages(file.name, handing, share.may)) return this.textPage(visitor, nodeId, what, req, res);
    const marks: Marks = {
      tag: visit.id,
      over: async (picture, named) => {
        const marked = await this.copies.picture(share, visit, { sha256: file.sha256, what: named }, picture);
        // That took its time: what was so before may be so no more.
        await this.seen(visitor, nodeId);
        return marked;
      },
    };
    await sendPicture(this.previews, file, what, req, res, marksPictures(share.may) && !isTheirs ? marks : null);
  }

  /** How a file can be looked at. @throws Problem share.no-such-file, preview.none */
  async facts(visitor: Visitor, nodeId: string): Promise<PreviewFacts> {
    const { file, handing, share } = await this.seen(visitor, nodeId);
    if (showsTextAsPages(file.name, handing, share.may))
      return { kind: 'pages', pages: await this.previews.textPages(file.sha256) };
    return { kind: previewKind(file.name), pages: await this.previews.pages(file.sha256) };
  }

  /** A page of a text that is not given, marked: the text itself leaves by no way. */
  private async textPage(visitor: Visitor, nodeId: string, what: Shown, req: Request, res: Response): Promise<void> {
    const { share, visit, file } = await this.seen(visitor, nodeId);
    if (what === 'thumb') throw notFound('This picture');
    const page = what === 'large' ? 1 : what;
    const { sha256 } = file;
    await sendMade({ sha256, what: page, tag: visit.id }, req, res, async () => {
      const drawn = () => this.previews.textPage(sha256, page);
      const marked = await this.copies.picture(share, visit, { sha256, what: String(page) }, drawn);
      // That took its time: what was so before may be so no more.
      const now = await this.seen(visitor, nodeId);
      if (!showsTextAsPages(now.file.name, now.handing, now.share.may)) throw notFound('This page');
      return marked;
    });
  }

  /** The text of a file is the file: who may not take that as it is does not get it here. */
  async text(visitor: Visitor, nodeId: string): Promise<FileText> {
    const { share, visit, file, handing, isTheirs } = await this.seen(visitor, nodeId);
    if (handing !== 'plain')
      throw new Problem('forbidden', 'share.look-only', 'The text of this file is not shown in this share.');
    const text = await this.previews.text(file.sha256);
    // Where it matters how often a file is taken, its text is one taking.
    if (share.may.fileLimit !== null)
      await this.takings.note({ visitId: visit.id, share, what: { file: { id: nodeId, name: file.name } } }, isTheirs);
    return text;
  }
}
