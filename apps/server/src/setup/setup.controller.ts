import {
  Body,
  Controller,
  Get,
  HttpCode,
  Injectable,
  Post,
  Put,
  Req,
  Res,
  UseGuards,
  type CanActivate,
} from '@nestjs/common';
import {
  mailTrialSchema,
  setupCodeSchema,
  setupMailSchema,
  setupOfficeSchema,
  setupPlaceSchema,
  setupStoresSchema,
  setupWayInSchema,
  setupYouSchema,
  type MailTrial,
  type MailTrialAnswer,
  type SetupCandidate,
  type SetupCode,
  type SetupDone,
  type SetupMail,
  type SetupOffice,
  type SetupPlace,
  type SetupStanding,
  type SetupState,
  type SetupStores,
  type SetupWayIn,
  type SetupYou,
} from '@quay/contract';
import type { Request, Response } from 'express';
import { hostname } from 'node:os';
import { cameFrom, giveSession } from '../people/session.controller.js';
import { clientAddress } from '../platform/client-address.js';
import { cookieOf, setCookie } from '../platform/cookies.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { notFound } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { Restart } from './restart.js';
import { SetupService } from './setup.service.js';

const COOKIE = 'quay_setup';
const COOKIE_PATH = '/api/setup';
const COOKIE_SECONDS = 24 * 3600;

/** Once there is an office, nothing of this is there any more. */
@Injectable()
export class NotBegunGuard implements CanActivate {
  constructor(private readonly setup: SetupService) {}

  async canActivate(): Promise<boolean> {
    if (await this.setup.begun()) throw notFound('The first start');
    return true;
  }
}

const secretOf = (req: Request): string | null => cookieOf(req.headers.cookie, COOKIE);

@ApiPart('setup')
@Controller('api/setup')
@UseGuards(NotBegunGuard)
export class SetupController {
  constructor(
    private readonly setup: SetupService,
    private readonly restart: Restart,
  ) {}

  @Get()
  @For('first-start')
  @Operation('How far the first start has come; all of it to the browser that typed the code')
  async standing(@Req() req: Request): Promise<SetupStanding> {
    const secret = secretOf(req);
    return (await this.setup.isHeld(secret))
      ? { held: true, state: await this.setup.state(secret) }
      : { held: false, machine: hostname() };
  }

  @Post('code')
  @For('first-start')
  @HttpCode(204)
  @Operation('Type the code that the terminal printed; sets the cookie of the first start', setupCodeSchema)
  async hold(
    @Body(valid(setupCodeSchema)) { code }: SetupCode,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<void> {
    const secret = await this.setup.hold(code, clientAddress(req));
    const how = { path: COOKIE_PATH, maxAgeSeconds: COOKIE_SECONDS, secure: req.secure };
    res.setHeader('Set-Cookie', setCookie(COOKIE, secret, how));
  }

  @Post('code/new')
  @For('first-start')
  @HttpCode(204)
  @Operation('Have another code printed by the terminal')
  newCode(@Req() req: Request): Promise<void> {
    return this.setup.announceAgain(clientAddress(req));
  }

  @Put('office')
  @For('first-start')
  @Operation('What the office is called and which clock it goes by', setupOfficeSchema)
  office(@Body(valid(setupOfficeSchema)) asked: SetupOffice, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerOffice(secretOf(req), asked);
  }

  @Put('you')
  @For('first-start')
  @Operation('Who runs the server', setupYouSchema)
  you(@Body(valid(setupYouSchema)) asked: SetupYou, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerYou(secretOf(req), asked);
  }

  @Get('places')
  @For('first-start')
  @Operation('Folders in which bytes could lie, each measured')
  places(@Req() req: Request): Promise<SetupCandidate[]> {
    return this.setup.places(secretOf(req));
  }

  @Post('places')
  @For('first-start')
  @HttpCode(200)
  @Operation('Measure a folder in which bytes could lie', setupPlaceSchema)
  measure(@Body(valid(setupPlaceSchema)) { folder }: SetupPlace, @Req() req: Request): Promise<SetupCandidate> {
    return this.setup.measure(secretOf(req), folder);
  }

  @Put('place')
  @For('first-start')
  @Operation('Where bytes lie', setupPlaceSchema)
  place(@Body(valid(setupPlaceSchema)) asked: SetupPlace, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerPlace(secretOf(req), asked);
  }

  @Put('stores')
  @For('first-start')
  @Operation('The first stores', setupStoresSchema)
  stores(@Body(valid(setupStoresSchema)) asked: SetupStores, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerStores(secretOf(req), asked);
  }

  @Put('mail')
  @For('first-start')
  @Operation('The mail server, or that it can wait', setupMailSchema)
  mail(@Body(valid(setupMailSchema)) asked: SetupMail, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerMail(secretOf(req), asked);
  }

  @Post('mail/trial')
  @For('first-start')
  @HttpCode(200)
  @Operation('Send a test message, and see what the servers say', mailTrialSchema)
  trial(@Body(valid(mailTrialSchema)) asked: MailTrial, @Req() req: Request): Promise<MailTrialAnswer> {
    return this.setup.tryMail(secretOf(req), asked);
  }

  @Put('way-in')
  @For('first-start')
  @Operation('How outsiders are to get in', setupWayInSchema)
  wayIn(@Body(valid(setupWayInSchema)) asked: SetupWayIn, @Req() req: Request): Promise<SetupState> {
    return this.setup.answerWayIn(secretOf(req), asked);
  }

  @Post('finish')
  @For('first-start')
  @HttpCode(200)
  @Operation('Make the office of what was answered; signs its admin in')
  async finish(@Req() req: Request, @Res({ passthrough: true }) res: Response): Promise<SetupDone> {
    const begun = await this.setup.finish(secretOf(req), cameFrom(req));
    if (begun.session) giveSession(res, begun.session, req.secure);
    if (begun.restarts) res.once('close', () => this.restart.ask());
    return { restarts: begun.restarts };
  }
}
