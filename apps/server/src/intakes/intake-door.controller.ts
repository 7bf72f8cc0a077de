import { Body, Controller, Delete, Get, Head, HttpCode, Inject, Param, Patch, Post, Req, Res } from '@nestjs/common';
import {
  askCodeSchema,
  beginDepositSchema,
  handInSchema,
  idSchema,
  type AskCode,
  type BeginDeposit,
  type BegunDeposit,
  type CodeAsked,
  type HandedIn,
  type IntakeDoor,
} from '@quay/contract';
import { CONTRIBUTOR_KNOWN_SECONDS, type IntakeAnswers } from '@quay/core';
import contentDisposition from 'content-disposition';
import type { Request, Response } from 'express';
import { prefixOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { setCookie } from '../platform/cookies.js';
import { For } from '../platform/for.js';
import { pageHeaders } from '../platform/page-headers.js';
import { Office } from '../platform/office.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { PageTexts, sendLogo } from '../visits/page-texts.js';
import { contributorOf, DEPOSIT_COOKIE } from './contributor.js';
import { DepositUploads } from './deposit-uploads.service.js';
import { IntakeDoorService } from './door.service.js';
import { HandingInService } from './handing-in.service.js';
import { receiptPage } from './receipt-page.js';

const id = valid<string>(idSchema.required());

@ApiPart('contributor')
@Controller('h/:token')
export class IntakeDoorController {
  private readonly texts: PageTexts;

  constructor(
    private readonly doors: IntakeDoorService,
    private readonly uploads: DepositUploads,
    private readonly handing: HandingInService,
    private readonly office: Office,
    private readonly clock: Clock,
    @Inject(CONFIG) config: Config,
  ) {
    this.texts = new PageTexts(config.webRoot ?? '.', 'intake.html');
  }

  @Get()
  @For('link')
  @Operation('The page on which files are handed in; the same for every token, so that it tells nothing')
  async page(@Req() req: Request, @Res() res: Response): Promise<void> {
    res.set({ 'Cache-Control': 'no-cache', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    // What belongs to the page is asked for beside it, so that it also works under the path prefix of an address.
    const up = req.path.endsWith('/') ? '../../' : '../';
    const page = await this.texts.page(req.headers['accept-language'] ?? '', up);
    const plain = req.path.endsWith('/') ? 'plain' : `${req.path.slice(req.path.lastIndexOf('/') + 1)}/plain`;
    res.type('html').send(page.replace('%plain-path%', plain));
  }

  @Get('embed')
  @For('link')
  @Operation('The same page, to be shown within pages of the origins that the intake names')
  async embedded(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const origins = await this.doors.shownIn(token);
    if (origins.length > 0) {
      // What was said of every page before is said anew of this one.
      res.removeHeader('X-Frame-Options');
      pageHeaders(origins)(req, res, () => undefined);
    }
    res.set({ 'Cache-Control': 'no-cache', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    const up = req.path.endsWith('/') ? '../../../' : '../../';
    const page = await this.texts.page(req.headers['accept-language'] ?? '', up);
    // Within another page its forms would be known by no cookie.
    res.type('html').send(page.replace('%plain-path%', '.'));
  }

  @Get('door')
  @For('link')
  @Operation('What the page may show')
  look(@Param('token') token: string, @Req() req: Request): Promise<IntakeDoor> {
    return this.doors.look(contributorOf(token, req));
  }

  @Post('begin')
  @For('link')
  @HttpCode(200)
  @Operation('Begin to hand something in: sets the cookie of this browser', beginDepositSchema)
  async begin(
    @Param('token') token: string,
    @Body(valid(beginDepositSchema)) asked: BeginDeposit,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<BegunDeposit> {
    const contributor = contributorOf(token, req);
    const cookie = await this.doors.begin(contributor, asked);
    if (cookie === null) return this.doors.look(contributor);
    if (asked.byPage) return { ...(await this.doors.look({ ...contributor, cookie })), key: cookie };
    const path = `${prefixOf(req)}/h/${token}`;
    const about = { path, maxAgeSeconds: CONTRIBUTOR_KNOWN_SECONDS, secure: req.secure };
    res.setHeader('Set-Cookie', setCookie(DEPOSIT_COOKIE, cookie, about));
    return this.doors.look({ ...contributor, cookie });
  }

  @Post('code')
  @For('link')
  @HttpCode(200)
  @Operation(
    'Have a code sent to an address or a number, if the intake is for it; whether it is, is not told',
    askCodeSchema,
  )
  code(
    @Param('token') token: string,
    @Body(valid(askCodeSchema)) asked: AskCode,
    @Req() req: Request,
  ): Promise<CodeAsked> {
    return this.doors.sendCode(contributorOf(token, req), asked);
  }

  @Post('uploads')
  @For('link')
  @Operation('Hand a file in, in pieces that survive a broken connection (tus 1.0)')
  upload(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    return this.goOn(token, req, res);
  }

  @Head('uploads/:id')
  @For('link')
  @Operation('How much of a file has arrived (tus 1.0)')
  howFar(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Patch('uploads/:id')
  @For('link')
  @Operation('Go on with a file (tus 1.0)')
  piece(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Delete('uploads/:id')
  @For('link')
  @Operation('Take a file back that was not handed in yet (tus 1.0)')
  takeBack(@Param('token') token: string, @Param('id', id) _id: string, @Req() req: Request, @Res() res: Response) {
    return this.goOn(token, req, res);
  }

  @Post('hand-in')
  @For('link')
  @HttpCode(200)
  @Operation('Hand in what has arrived: makes the receipt', handInSchema)
  handIn(
    @Param('token') token: string,
    @Body(valid(handInSchema)) answers: IntakeAnswers,
    @Req() req: Request,
  ): Promise<HandedIn> {
    return this.handing.handIn(contributorOf(token, req), answers);
  }

  @Get('receipt/:key')
  @For('link')
  @Operation('The receipt of what was handed in, for whoever has its link')
  async receipt(
    @Param('token') token: string,
    @Param('key') key: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const shown = await this.handing.receipt(contributorOf(token, req), key);
    const speech = await this.texts.speech(req.headers['accept-language'] ?? '');
    const { zone } = await this.office.settings();
    res.set({ 'Referrer-Policy': 'no-referrer', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    const about = { zone, now: this.clock.now(), up: '../../../', styles: await this.texts.styles() };
    res.type('html').send(receiptPage({ speech, shown, key, ...about }));
  }

  @Get('receipt/:key/SHA256SUMS')
  @For('link')
  @Operation('Checksums of what was handed in, as sha256sum -c reads them')
  async checksums(
    @Param('token') token: string,
    @Param('key') key: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const { name, text } = await this.handing.checksums(contributorOf(token, req), key);
    res.set({ 'Content-Disposition': contentDisposition(name), 'Cache-Control': 'private, no-cache' });
    res.type('text/plain').send(text);
  }

  @Get('logo')
  @For('link')
  @Operation("The office's logo; the same for every token, so that it tells nothing")
  async logo(@Req() req: Request, @Res() res: Response): Promise<void> {
    await sendLogo(this.office, req, res);
  }

  private async goOn(token: string, req: Request, res: Response): Promise<void> {
    const contributor = contributorOf(token, req);
    // Whoever is not handing anything in is told so, before the protocol looks at anything.
    await this.doors.inside(contributor);
    await this.uploads.handle({ contributor, path: `${prefixOf(req)}/h/${token}/uploads` }, req, res);
  }
}
