import { Body, Controller, Delete, Get, HttpCode, Post, Put, Req, Res, UseGuards } from '@nestjs/common';
import {
  changePasswordSchema,
  signInSchema,
  type ChangePassword,
  type Me as MeAnswer,
  type SignIn,
} from '@quay/contract';

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
import { SESSION_COOKIE, sessionSecret, SignedInGuard } from './signed-in.guard.js';
import { SessionService } from './session.service.js';
import { Me, type Who } from './who.js';

/** The cookies of a session that has begun. */
export function giveSession(res: Response, signed: { secret: string; device: string }, secure: boolean): void {
  const session = { path: '/', maxAgeSeconds: 14 * 24 * 3600, secure };
  const device = { path: '/api/session', maxAgeSeconds: DEVICE_KEPT_SECONDS, secure };
  res.setHeader('Set-Cookie', [
    setCookie(SESSION_COOKIE, signed.secret, session),
    setCookie(DEVICE_COOKIE, signed.device, device),
  ]);
}

@ApiPart('session')
@Controller('api/session')
export class SessionController {
  constructor(
    private readonly sessions: SessionService,
    private readonly office: Office,
    private readonly clock: Clock,
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
    const signed = await this.sessions.signIn(asked, clientAddress(req), cookieOf(req.headers.cookie, DEVICE_COOKIE));
    giveSession(res, signed, req.secure);
  }

  @Get()
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Who is signed in')
  async me(@Me() who: Who): Promise<MeAnswer> {
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
      now: this.clock.date().toISOString(),
    };
  }

  @Delete()
  @For('anyone')
  @HttpCode(204)
  @Operation('Sign out')
  async signOut(@Req() req: Request, @Res({ passthrough: true }) res: Response): Promise<void> {
    const secret = sessionSecret(req.headers.cookie);
    if (secret) await this.sessions.signOut(secret);
    res.setHeader('Set-Cookie', setCookie(SESSION_COOKIE, '', { path: '/', maxAgeSeconds: 0, secure: req.secure }));
  }

  @Put('password')
  @For('signed-in')
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
