import { Body, Controller, Delete, Get, HttpCode, Post, Put, Query, Req, Res, UseGuards } from '@nestjs/common';
import {
  keepProviderSchema,
  type KeepProvider,
  type Provider,
  type ProviderTrial,
  type SignInWays,
} from '@quay/contract';
import type { Request, Response } from 'express';
import Joi from 'joi';
import { NO_CODE_COOKIE } from '../people/factor-browsers.js';
import { cameFrom, giveSession } from '../people/session.controller.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { clientAddress } from '../platform/client-address.js';
import { cookieOf, setCookie } from '../platform/cookies.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { ProviderService } from './provider.service.js';
import { ProviderSignIn, type CameBack } from './sign-in.service.js';

/** Known to the browser that was sent to the provider, and to no other. */
const COOKIE = 'quay_provider';
const PATH = '/api/sign-in';
const COOKIE_SECONDS = 600;

const back = valid<{ back: string }>(Joi.object({ back: Joi.string().max(501).default('/') }));
const code = Joi.object<{ code: string; remember?: boolean }>({
  code: Joi.string().trim().max(40).required(),
  remember: Joi.boolean(),
});
const secretOf = (req: Request) => cookieOf(req.headers.cookie, COOKIE);
const noCodeOf = (req: Request) => cookieOf(req.headers.cookie, NO_CODE_COOKIE);

@ApiPart('session')
@Controller('api/sign-in')
export class ProviderSignInController {
  constructor(private readonly signIn: ProviderSignIn) {}

  @Get()
  @For('anyone')
  @Operation('What is offered beside name and password')
  async ways(): Promise<SignInWays> {
    return { provider: await this.signIn.offered() };
  }

  @Get('provider')
  @For('anyone')
  @Operation('Go to the identity provider')
  async go(@Query(back) asked: { back: string }, @Req() req: Request, @Res() res: Response): Promise<void> {
    const begun = await this.signIn.begin(asked.back, clientAddress(req));
    if ('url' in begun) {
      res.setHeader('Set-Cookie', cookie(begun.state, req.secure));
      res.redirect(302, begun.url);
    } else this.answer(begun, req, res);
  }

  @Get('provider/callback')
  @For('anyone')
  @Operation('Come back from the identity provider; sets the session cookie')
  async cameBack(@Req() req: Request, @Res() res: Response): Promise<void> {
    const at = req.url.indexOf('?');
    const search = at < 0 ? '' : req.url.slice(at);
    this.answer(
      await this.signIn.cameBack(search, { cookie: secretOf(req), browser: noCodeOf(req) }, cameFrom(req)),
      req,
      res,
    );
  }

  @Get('provider/out')
  @For('anyone')
  @Operation('Sign out at the identity provider, too')
  async out(@Res() res: Response): Promise<void> {
    res.redirect(302, (await this.signIn.wayOut()) ?? '/sign-in');
  }

  @Post('provider/code')
  @For('anyone')
  @HttpCode(204)
  @Operation('Type the code that is wanted of whoever came back; sets the session cookie', code)
  async code(
    @Body(valid(code)) asked: { code: string; remember?: boolean },
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<void> {
    const signed = await this.signIn.withCode(secretOf(req), { ...asked, browser: null }, cameFrom(req));
    giveSession(res, signed, req.secure);
  }

  private answer(came: CameBack, req: Request, res: Response): void {
    if (came.kind === 'in') {
      giveSession(res, came.signed, req.secure);
      res.append('Set-Cookie', cookie('', req.secure));
      return res.redirect(302, came.back);
    }
    if (came.kind === 'refused') return res.redirect(302, `/sign-in?refused=${encodeURIComponent(came.code)}`);
    res.setHeader('Set-Cookie', cookie(came.state, req.secure));
    res.redirect(302, '/sign-in?wants=code');
  }
}

const cookie = (value: string, secure: boolean): string =>
  setCookie(COOKIE, value, { path: PATH, maxAgeSeconds: value === '' ? 0 : COOKIE_SECONDS, secure });

@ApiPart('settings')
@UseGuards(SignedInGuard)
@Controller('api/settings/provider')
export class ProviderController {
  constructor(private readonly provider: ProviderService) {}

  @Get()
  @For('run-server')
  @Operation('How the identity provider is asked')
  state(): Promise<Provider> {
    return this.provider.state();
  }

  @Put()
  @For('run-server')
  @Operation('Say how the identity provider is asked', keepProviderSchema)
  keep(@Me() who: Who, @Body(valid(keepProviderSchema)) asked: KeepProvider): Promise<Provider> {
    return this.provider.keep(who, asked);
  }

  @Delete()
  @For('run-server')
  @Operation('Ask the identity provider no more: people sign in by a password')
  forget(@Me() who: Who): Promise<Provider> {
    return this.provider.forget(who);
  }

  @Post('trial')
  @For('run-server')
  @HttpCode(200)
  @Operation('See whether a provider is there', keepProviderSchema)
  try(@Me() who: Who, @Body(valid(keepProviderSchema)) asked: KeepProvider): Promise<ProviderTrial> {
    return this.provider.try(who, asked);
  }
}
