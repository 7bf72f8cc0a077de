import {
  Body,
  Controller,
  Delete,
  Get,
  Head,
  HttpCode,
  Inject,
  Param,
  Patch,
  Post,
  Query,
  Req,
  Res,
} from '@nestjs/common';
import {
  askCodeSchema,
  finishSchema,
  idSchema,
  openShareSchema,
  pickedSchema,
  PROBLEM_STATUS,
  type AskCode,
  type CodeAsked,
  type ConflictChoice,
  type CopiesMade,
  type FileText,
  type OpenShare,
  type Picked,
  type PreviewFacts,
  type UploadAnswer,
  type VisitorDoor,
} from '@quay/contract';
import { CODE_LIFETIME_MS } from '@quay/core';
import type { Request, Response } from 'express';
import { EventStreams } from '../live/event-streams.js';
import { sessionSecret } from '../people/signed-in.guard.js';
import { CONFIG, type Config } from '../platform/config.js';
import { cookieOf, setCookie } from '../platform/cookies.js';
import { For } from '../platform/for.js';
import { Office } from '../platform/office.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { PreviewsService } from '../previews/previews.service.js';
import { pageNumber } from '../previews/show.js';
import { DownloadService } from '../transfers/download.service.js';
import { ResumableService } from '../transfers/resumable.service.js';
import { clientAddress, prefixOf } from '../platform/client-address.js';
import { ArchivesService } from './archives.service.js';
import { LookingService } from './looking.service.js';
import { BringingService } from './bringing.service.js';
import { PageTexts, sendLogo } from './page-texts.js';
import { plainPage } from './plain-page.js';
import { proofIn, type PlainForm } from './plain-parts.js';
import { unsettles, VisitsService, VISIT_COOKIE, VISIT_LIFETIME_SECONDS, type Visitor } from './visits.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('visitor')
@Controller('s/:token')
export class VisitsController {
  private readonly texts: PageTexts;

  constructor(
    private readonly visits: VisitsService,
    private readonly archives: ArchivesService,
    private readonly bringing: BringingService,
    private readonly previews: PreviewsService,
    private readonly looking: LookingService,
    private readonly resumable: ResumableService,
    private readonly downloads: DownloadService,
    private readonly streams: EventStreams,
    private readonly office: Office,
    @Inject(CONFIG) config: Config,
  ) {
    this.texts = new PageTexts(config.webRoot ?? '.');
  }

  @Get()
  @For('link')
  @Operation('The visitor page; the same for every token, so that it tells nothing')
  async page(@Req() req: Request, @Res() res: Response): Promise<void> {
    res.set({ 'Cache-Control': 'no-cache', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    // What belongs to the page is asked for beside it, so that it also works under the path prefix of an address.
    const up = req.path.endsWith('/') ? '../../' : '../';
    const page = await this.texts.page(req.headers['accept-language'] ?? '', up);
    const plain = req.path.endsWith('/') ? 'plain' : `${req.path.slice(req.path.lastIndexOf('/') + 1)}/plain`;
    res.type('html').send(page.replace('%plain-path%', plain));
  }

  @Get('plain')
  @For('link')
  @Operation('The visitor page for browsers without script')
  async plain(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const found = await this.visits.look(visitorOf(token, req)).catch(problemOf);
    const problem = found instanceof Problem ? found : null;
    await this.sendPlain(req, res, { found, problem, sent: null });
  }

  @Post('plain')
  @For('link')
  @HttpCode(200)
  @Operation(
    'Open the share in a browser without script: has a code sent, or begins a visit and leads back to the page',
  )
  async openPlain(
    @Param('token') token: string,
    @Body() typed: PlainForm | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const { value, error } = openShareSchema.validate({ password: typed?.password ?? null, ...proofIn(typed) });
    const visitor = visitorOf(token, req);
    // Where a code was asked for, its form is shown again.
    const { address, ticket = '' } = value as Partial<OpenShare>;
    const before = address && ticket ? { address, ticket, minutes: CODE_LIFETIME_MS / 60_000 } : null;
    try {
      if (error?.details[0]?.path[0] === 'code')
        throw new Problem('invalid', 'share.wrong-code', 'A code has six digits.');
      if (error) throw new Problem('invalid', 'share.wrong-password', 'That is not the password.');
      if (address !== undefined && value.code === undefined) {
        const sent = await this.visits.sendCode(visitor, { address, password: value.password });
        await this.sendPlain(req, res, { found: await this.visits.look(visitor), problem: null, sent });
        return;
      }
      const { cookie } = await this.visits.open(visitor, value);
      if (cookie) res.setHeader('Set-Cookie', visitCookie(req, token, cookie));
      // Looked at anew, so that a reload asks for nothing twice.
      res.redirect(303, 'plain');
    } catch (failed) {
      const problem = problemOf(failed);
      const found = await this.visits.look(visitor).catch(problemOf);
      await this.sendPlain(req, res, { found, problem, sent: before });
    }
  }

  private async sendPlain(req: Request, res: Response, { found, problem, sent }: PlainShown): Promise<void> {
    const door = found instanceof Problem ? null : found;
    const speech = await this.texts.speech(req.headers['accept-language'] ?? '');
    const said = problem && { code: problem.code, detail: problem.message };
    // Its form is sent by a page of ours, which a browser says only where it may say where it comes from.
    res.set({ 'Referrer-Policy': 'same-origin', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    res.status(problem ? PROBLEM_STATUS[problem.kind] : 200).type('html');
    res.send(plainPage({ speech, door, problem: said, sent, up: '../../', styles: await this.texts.styles() }));
  }

  @Get('logo')
  @For('link')
  @Operation("The office's logo; the same for every token, so that it tells nothing")
  async logo(@Req() req: Request, @Res() res: Response): Promise<void> {
    await sendLogo(this.office, req, res);
  }

  @Get('door')
  @For('link')
  @Operation('What the visitor page may show')
  look(@Param('token') token: string, @Req() req: Request): Promise<VisitorDoor> {
    return this.visits.look(visitorOf(token, req));
  }

  @Post('open')
  @For('link')
  @HttpCode(200)
  @Operation('Open the share: begins a visit and sets its cookie', openShareSchema)
  async open(
    @Param('token') token: string,
    @Body(valid(openShareSchema)) asked: OpenShare,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<VisitorDoor> {
    const { door, cookie } = await this.visits.open(visitorOf(token, req), asked);
    if (cookie) res.setHeader('Set-Cookie', visitCookie(req, token, cookie));
    return door;
  }

  @Post('code')
  @For('link')
  @HttpCode(200)
  @Operation('Have a code sent to an address; the answer tells nothing of whether the share is for it', askCodeSchema)
  code(
    @Param('token') token: string,
    @Body(valid(askCodeSchema)) asked: AskCode,
    @Req() req: Request,
  ): Promise<CodeAsked> {
    return this.visits.sendCode(visitorOf(token, req), asked);
  }

  @Post('uploads')
  @For('visit')
  @Operation('Bring a file into the share, in pieces that survive a broken connection (tus 1.0)')
  async begin(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const visitor = visitorOf(token, req);
    const bringer = await this.bringing.bringer(visitor);
    await this.bringing.requireRoom(visitor, bringer, Number(req.headers['upload-length'] ?? 0) || 0);
    await this.resumable.handle({ bringer, path: uploadsPath(req, token) }, req, res);
  }

  // Before GET, which would answer it too.
  @Head('uploads/:id')
  @For('visit')
  @Operation('How much of an upload has arrived (tus 1.0)')
  howFar(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Patch('uploads/:id')
  @For('visit')
  @Operation('Go on with an upload (tus 1.0)')
  piece(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Delete('uploads/:id')
  @For('visit')
  @Operation('Give an upload up (tus 1.0)')
  giveUp(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Get('uploads/:id')
  @For('visit')
  @Operation('What became of an upload')
  async outcome(
    @Param('token') token: string,
    @Param('id', id) uploadId: string,
    @Req() req: Request,
  ): Promise<{ answer: UploadAnswer | null; offsetBytes: number }> {
    return this.resumable.outcome(await this.bringing.bringer(visitorOf(token, req)), uploadId);
  }

  @Post('uploads/:id/finish')
  @For('visit')
  @HttpCode(200)
  @Operation('End a complete upload whose name was taken', finishSchema)
  async finish(
    @Param('token') token: string,
    @Param('id', id) uploadId: string,
    @Body(valid(finishSchema)) asked: { conflict: ConflictChoice },
    @Req() req: Request,
  ): Promise<UploadAnswer> {
    return this.resumable.finish(await this.bringing.bringer(visitorOf(token, req)), uploadId, asked.conflict);
  }

  @Delete('files/:id')
  @For('visit')
  @HttpCode(204)
  @Operation('Take back a file that this visitor brought')
  async takeBack(@Param('token') token: string, @Param('id', id) nodeId: string, @Req() req: Request): Promise<void> {
    await this.bringing.takeBack(visitorOf(token, req), nodeId);
  }

  @Get('files/:id')
  @For('visit')
  @Operation('Download one file of the share; byte ranges are served')
  async file(
    @Param('token') token: string,
    @Param('id', id) nodeId: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const { file, going, taken } = await this.visits.file(visitorOf(token, req), nodeId);
    await this.downloads.file(req, res, file, req.query['show'] === '1' ? 'show' : 'save', going, taken);
  }

  @Get('files/:id/look')
  @For('visit')
  @Operation('How a file of the share can be looked at')
  facts(@Param('token') token: string, @Param('id', id) nodeId: string, @Req() req: Request): Promise<PreviewFacts> {
    return this.looking.facts(visitorOf(token, req), nodeId);
  }

  @Get('files/:id/thumb')
  @For('visit')
  @Operation('A small picture of a file (WebP); 202 while it is being made')
  thumb(@Param('token') token: string, @Param('id', id) nodeId: string, @Req() req: Request, @Res() res: Response) {
    return this.looking.picture(visitorOf(token, req), nodeId, 'thumb', req, res);
  }

  @Get('files/:id/large')
  @For('visit')
  @Operation('A picture of a file that fills the screen (WebP)')
  large(@Param('token') token: string, @Param('id', id) nodeId: string, @Req() req: Request, @Res() res: Response) {
    return this.looking.picture(visitorOf(token, req), nodeId, 'large', req, res);
  }

  @Get('files/:id/pages/:page')
  @For('visit')
  @Operation('One page of a document, from 1, as a picture (WebP)')
  onePage(
    @Param('token') token: string,
    @Param('id', id) nodeId: string,
    @Param('page') page: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    return this.looking.picture(visitorOf(token, req), nodeId, pageNumber(page), req, res);
  }

  @Get('files/:id/text')
  @For('visit')
  @Operation('The text of a file, as far as it is shown; not where files are only looked at, because it is the file')
  text(@Param('token') token: string, @Param('id', id) nodeId: string, @Req() req: Request): Promise<FileText> {
    return this.looking.text(visitorOf(token, req), nodeId);
  }

  @Post('copies')
  @For('visit')
  @HttpCode(200)
  @Operation('Make some of the copies, marked for this visit, that an archive needs; asked until all are', pickedSchema)
  copies(
    @Param('token') token: string,
    @Body(valid(pickedSchema)) picked: Picked,
    @Req() req: Request,
  ): Promise<CopiesMade> {
    return this.archives.makeCopies(visitorOf(token, req), picked);
  }

  @Get('all.zip')
  @For('visit')
  @Operation('Download everything, or files that are named, as one ZIP of exactly announced size')
  async archive(
    @Param('token') token: string,
    @Query(valid(pickedSchema)) picked: Picked,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const { name, archive, going, taken } = await this.archives.archive(visitorOf(token, req), picked);
    await this.downloads.archive(req, res, name, archive, going, taken);
  }

  @Get('SHA256SUMS')
  @For('visit')
  @Operation('Checksums of what can be taken, as sha256sum -c reads them')
  async checksums(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const text = await this.archives.checksums(visitorOf(token, req));
    res.set({ 'Content-Disposition': 'attachment; filename=SHA256SUMS', 'Cache-Control': 'private, no-cache' });
    res.type('text/plain').send(text);
  }

  @Get('events')
  @For('visit')
  @Operation('Server-sent events: tells the page that something about the share has changed')
  async events(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const visitor = visitorOf(token, req);
    const { share, visit } = await this.visits.listening(visitor);
    this.streams.open(req, res, {
      key: `visit ${visit.id}`,
      wanted: (event) => this.visits.concerns(share, event),
      shown: () => ({ changed: true }),
      still: () => this.visits.lasts(visitor),
      unsettles: (event) => event.topic === 'missed' || unsettles(share, event),
    });
  }

  private async goOn(token: string, req: Request, res: Response): Promise<void> {
    const bringer = await this.bringing.bringer(visitorOf(token, req));
    await this.resumable.handle({ bringer, path: uploadsPath(req, token) }, req, res);
  }
}

interface PlainShown {
  found: VisitorDoor | Problem;
  problem: Problem | null;
  /** A code that was asked for. */
  sent: CodeAsked | null;
}

const visitCookie = (req: Request, token: string, secret: string): string =>
  setCookie(VISIT_COOKIE, secret, {
    path: `${prefixOf(req)}/s/${token}`,
    maxAgeSeconds: VISIT_LIFETIME_SECONDS,
    secure: req.secure,
  });

/** What was refused; what went wrong by itself goes on to whoever tells of that. */
function problemOf(error: unknown): Problem {
  if (error instanceof Problem) return error;
  throw error;
}

const uploadsPath = (req: Request, token: string): string => `${prefixOf(req)}/s/${token}/uploads`;

function visitorOf(token: string, req: Request): Visitor {
  return {
    token,
    cookie: cookieOf(req.headers.cookie, VISIT_COOKIE),
    session: sessionSecret(req.headers.cookie),
    fromAddress: clientAddress(req),
    agent: req.headers['user-agent'] ?? '',
  };
}
