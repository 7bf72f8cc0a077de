import { Body, Controller, Delete, Get, HttpCode, Param, Post, Put, Req, Res, UseGuards } from '@nestjs/common';
import {
  changePasswordSchema,
  idSchema,
  ownNoticesSchema,
  signInSchema,
  type ChangePassword,
  type Me as MeAnswer,
  type OwnNotices,
  type SecondFactor,
  type SessionRow,
  type SignedOut,
  type SignIn,
} from '@quay/contract';

import { SESSION_DAYS_RANGE } from '@quay/core';
import type { Request, Response } from 'express';
import { clientAddress } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { cookieOf, setCookie } from '../platform/cookies.js';
import { Office } from '../platform/office.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { hasDuty } from './duties.js';
import { DEVICE_COOKIE, DEVICE_KEPT_SECONDS } from './device-memory.js';
import { NO_CODE_COOKIE, NO_CODE_DAYS } from './factor-browsers.js';
import { FactorService } from './factor.service.js';
import { NoticesService } from './notices.service.js';
import { SESSION_COOKIE, sessionSecret, SignedInGuard } from './signed-in.guard.js';
import { SessionService, type Signed, type SignedInFrom } from './session.service.js';
import { Me, type Who } from './who.js';

/** The cookies of a session that has begun. */
export function giveSession(res: Response, signed: Signed, secure: boolean): void {
  // How long a session lasts is decided here at each use, not by the browser.
  const session = { path: '/', maxAgeSeconds: SESSION_DAYS_RANGE.max * 24 * 3600, secure };
  const device = { path: '/api/session', maxAgeSeconds: DEVICE_KEPT_SECONDS, secure };
  const noCode = { path: '/api', maxAgeSeconds: NO_CODE_DAYS * 86_400, secure };
  res.setHeader('Set-Cookie', [
    setCookie(SESSION_COOKIE, signed.secret, session),
    setCookie(DEVICE_COOKIE, signed.device, device),
    ...(signed.noCode ? [setCookie(NO_CODE_COOKIE, signed.noCode, noCode)] : []),
  ]);
}

/** Where a request comes from, for whoever signs in by it. */
export const cameFrom = (req: Request): SignedInFrom => ({
  fromAddress: clientAddress(req),
  agent: req.headers['user-agent'] ?? '',
});

const id = valid<string>(idSchema.required());

@ApiPart('session')
@Controller('api/session')
export class SessionController {
  constructor(
    private readonly sessions: SessionService,
    private readonly office: Office,
    private readonly clock: Clock,
    private readonly factor: FactorService,
    private readonly notices: NoticesService,
  ) {}

  @Post()
  @For('anyone')
  @HttpCode(204)
  @Operation('Sign in; sets the session cookie', signInSchema)
  async signIn(
    @Body(valid(signInSchema)) asked: SignIn,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<void> {
    const { cookie } = req.headers;
    const [device, noCode] = [cookieOf(cookie, DEVICE_COOKIE), cookieOf(cookie, NO_CODE_COOKIE)];
    const signed = await this.sessions.signIn(asked, cameFrom(req), device, noCode);
    giveSession(res, signed, req.secure);
  }

  @Get()
  @For('hindered')
  @UseGuards(SignedInGuard)
  @Operation('Who is signed in')
  async me(@Me() who: Who, @Req() req: Request): Promise<MeAnswer> {
    const factor = await this.factor.state(who);
    const [person, office, addresses] = await Promise.all([
      this.sessions.person(who),
      this.office.settings(),
      this.office.addresses(),
    ]);
    return {
      id: person.id,
      name: person.name,
      initials: person.initials,
      email: person.email,
      role: person.role,
      duties: [...who.duties],
      office: { name: office.name, zone: office.zone },
      // Links are built by those who publish.
      addresses: hasDuty(who, 'publish-outside') ? addresses : [],
      givenPassword: person.givenUntil !== null,
      passwordHere: !(await this.sessions.isOfDirectory(who)),
      ...(await this.factorFor(factor, req)),
      managesGroups: await this.sessions.managesGroups(who),
      now: this.clock.date().toISOString(),
    };
  }

  /** Whether a second factor stands in their way, or until when it does not. */
  private async factorFor(
    { on, dueAt }: SecondFactor,
    req: Request,
  ): Promise<Pick<MeAnswer, 'lacksFactor' | 'factorDueAt'>> {
    const byPasskey = await this.sessions.isByPasskey(sessionSecret(req.headers.cookie) ?? '');
    if (on || byPasskey || dueAt === null) return { lacksFactor: false, factorDueAt: null };
    const isDue = Date.parse(dueAt) <= this.clock.now();
    return { lacksFactor: isDue, factorDueAt: isDue ? null : dueAt };
  }

  @Delete()
  @For('anyone')
  @HttpCode(200)
  @Operation('Sign out')
  async signOut(@Req() req: Request, @Res({ passthrough: true }) res: Response): Promise<SignedOut> {
    const secret = sessionSecret(req.headers.cookie);
    const byProvider = secret !== null && (await this.sessions.signOut(secret));
    res.setHeader('Set-Cookie', setCookie(SESSION_COOKIE, '', { path: '/', maxAgeSeconds: 0, secure: req.secure }));
    return { byProvider };
  }

  @Get('all')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Where one is signed in')
  all(@Me() who: Who, @Req() req: Request): Promise<SessionRow[]> {
    return this.sessions.list(who, sessionSecret(req.headers.cookie) ?? '');
  }

  @Delete('others')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Sign out everywhere else')
  endOthers(@Me() who: Who, @Req() req: Request): Promise<SessionRow[]> {
    return this.sessions.end(who, null, sessionSecret(req.headers.cookie) ?? '');
  }

  @Delete('all/:id')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Sign out somewhere else')
  endOne(@Me() who: Who, @Param('id', id) sessionId: string, @Req() req: Request): Promise<SessionRow[]> {
    return this.sessions.end(who, sessionId, sessionSecret(req.headers.cookie) ?? '');
  }

  @Get('notices')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('What one is told of by mail')
  ownNotices(@Me() who: Who): Promise<OwnNotices> {
    return this.notices.own(who);
  }

  @Put('notices')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Choose what one is told of by mail', ownNoticesSchema)
  changeNotices(@Me() who: Who, @Body(valid(ownNoticesSchema)) asked: OwnNotices): Promise<OwnNotices> {
    return this.notices.change(who, asked);
  }

  @Put('password')
  @For('hindered')
  @HttpCode(204)
  @UseGuards(SignedInGuard)
  @Operation('Change the own password', changePasswordSchema)
  async changePassword(
    @Me() who: Who,
    @Body(valid(changePasswordSchema)) asked: ChangePassword,
    @Req() req: Request,
  ): Promise<void> {
    await this.sessions.changePassword(who, asked, sessionSecret(req.headers.cookie) ?? '');
  }
}
