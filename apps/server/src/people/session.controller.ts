import { Body, Controller, Delete, Get, HttpCode, Post, Put, Req, Res, UseGuards } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
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
import { setCookie } from '../platform/cookies.js';
import { Office } from '../platform/office.js';
import { Takes } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { SESSION_COOKIE, sessionSecret, SignedInGuard } from './signed-in.guard.js';
import { SessionService } from './session.service.js';
import { Me, type Who } from './who.js';

@ApiTags('session')
@Controller('api/session')
export class SessionController {
  constructor(
    private readonly sessions: SessionService,
    private readonly office: Office,
    private readonly clock: Clock,
  ) {}

  @Post()
  @HttpCode(204)
  @Takes('Sign in; sets the session cookie', signInSchema)
  async signIn(
    @Body(valid(signInSchema)) asked: SignIn,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<void> {
    const secret = await this.sessions.signIn(asked, clientAddress(req));
    res.setHeader(
      'Set-Cookie',
      setCookie(SESSION_COOKIE, secret, { path: '/', maxAgeSeconds: 14 * 24 * 3600, secure: req.secure }),
    );
  }

  @Get()
  @UseGuards(SignedInGuard)
  @Takes('Who is signed in')
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
      office,
      addresses,
      now: this.clock.date().toISOString(),
    };
  }

  @Delete()
  @HttpCode(204)
  @Takes('Sign out')
  async signOut(@Req() req: Request, @Res({ passthrough: true }) res: Response): Promise<void> {
    const secret = sessionSecret(req.headers.cookie);
    if (secret) await this.sessions.signOut(secret);
    res.setHeader('Set-Cookie', setCookie(SESSION_COOKIE, '', { path: '/', maxAgeSeconds: 0, secure: req.secure }));
  }

  @Put('password')
  @HttpCode(204)
  @UseGuards(SignedInGuard)
  @Takes('Change the own password', changePasswordSchema)
  async changePassword(
    @Me() who: Who,
    @Body(valid(changePasswordSchema)) asked: ChangePassword,
    @Req() req: Request,
  ): Promise<void> {
    await this.sessions.changePassword(who, asked, sessionSecret(req.headers.cookie) ?? '');
  }
}
