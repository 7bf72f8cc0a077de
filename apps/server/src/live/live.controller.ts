import { Controller, Get, Req, Res, UseGuards } from '@nestjs/common';
import type { Request, Response } from 'express';
import { SessionService } from '../people/session.service.js';
import { sessionSecret, SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { clientAddress } from '../platform/client-address.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { EventStreams } from './event-streams.js';
import { StaffEars } from './staff-ears.service.js';

@ApiPart('live')
@UseGuards(SignedInGuard)
@Controller('api/events')
export class LiveController {
  constructor(
    private readonly streams: EventStreams,
    private readonly ears: StaffEars,
    private readonly sessions: SessionService,
  ) {}

  @Get()
  @For('signed-in')
  @Operation('Server-sent events: which things changed, never their contents')
  events(@Me() who: Who, @Req() req: Request, @Res() res: Response): void {
    const secret = sessionSecret(req.headers.cookie) ?? '';
    this.streams.open(req, res, {
      key: `person ${who.personId}`,
      wanted: (event) => this.ears.mayHear(who, event),
      shown: ({ topic, id }) => ({ topic, id }),
      still: async () => (await this.sessions.whoHolds(secret, clientAddress(req))) !== null,
      unsettles: (event) => event.topic === 'session' || event.topic === 'access' || event.topic === 'missed',
    });
  }
}
