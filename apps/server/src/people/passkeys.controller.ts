import { Body, Controller, Delete, Get, HttpCode, Param, Post, Req, Res, UseGuards } from '@nestjs/common';
import {
  addPasskeySchema,
  beginFactorSchema,
  passkeyIdSchema,
  passkeySignInSchema,
  type AddPasskey,
  type BeginFactor,
  type Passkeys,
  type PasskeySignIn,
} from '@quay/contract';
import type { Request, Response } from 'express';
import { clientAddress } from '../platform/client-address.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { PasskeysService, type AskedAt } from './passkeys.service.js';
import { cameFrom, giveSession } from './session.controller.js';
import { SessionService } from './session.service.js';
import { SignedInGuard } from './signed-in.guard.js';
import { Me, type Who } from './who.js';

/**
 * Where a browser is, by the name that it asked for. What it signs names it once more, and no other page can have it
 * sign for this one.
 */
function askedAt(req: Request): AskedAt {
  const { host: hostAndPort = '' } = req.headers;
  return { host: req.hostname, origin: `${req.secure ? 'https' : 'http'}://${hostAndPort}` };
}

@ApiPart('session')
@Controller('api/session/passkeys')
export class PasskeysController {
  constructor(
    private readonly passkeys: PasskeysService,
    private readonly sessions: SessionService,
  ) {}

  @Get()
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('The own passkeys')
  own(@Me() who: Who, @Req() req: Request): Promise<Passkeys> {
    return this.passkeys.own(who, askedAt(req));
  }

  @Post('begin')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('What a device is told that is to keep a key (W3C Web Authentication)', beginFactorSchema)
  begin(
    @Me() who: Who,
    @Body(valid(beginFactorSchema)) { password }: BeginFactor,
    @Req() req: Request,
  ): Promise<object> {
    return this.passkeys.begin(who, password, askedAt(req));
  }

  @Post()
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Keep the key that a device made', addPasskeySchema)
  async add(@Me() who: Who, @Body(valid(addPasskeySchema)) asked: AddPasskey, @Req() req: Request): Promise<Passkeys> {
    await this.passkeys.add(who, asked, askedAt(req));
    return this.passkeys.own(who, askedAt(req));
  }

  @Delete(':id')
  @For('signed-in')
  @UseGuards(SignedInGuard)
  @Operation('Remove a passkey: it opens nothing any more')
  async remove(
    @Me() who: Who,
    @Param('id', valid<string>(passkeyIdSchema)) id: string,
    @Req() req: Request,
  ): Promise<Passkeys> {
    await this.passkeys.remove(who, id);
    return this.passkeys.own(who, askedAt(req));
  }

  @Post('sign-in/begin')
  @For('anyone')
  @HttpCode(200)
  @Operation('What a device is told that is to sign somebody in')
  beginSignIn(@Req() req: Request): Promise<object> {
    return this.passkeys.beginSignIn(askedAt(req), clientAddress(req));
  }

  @Post('sign-in')
  @For('anyone')
  @HttpCode(204)
  @Operation('Sign in by a passkey; sets the session cookie', passkeySignInSchema)
  async signIn(
    @Body(valid(passkeySignInSchema)) asked: PasskeySignIn,
    @Req() req: Request,
    @Res({ passthrough: true }) res: Response,
  ): Promise<void> {
    const personId = await this.passkeys.signedBy(asked, askedAt(req), clientAddress(req));
    giveSession(res, await this.sessions.signInByPasskey(personId, cameFrom(req)), req.secure);
  }
}
