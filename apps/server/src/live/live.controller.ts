import { Controller, Get, Req, Res, UseGuards } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import type { Request, Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Takes } from '../platform/openapi.js';
import { EventStreams } from './event-streams.js';

@ApiTags('live')
@UseGuards(SignedInGuard)
@Controller('api/events')
export class LiveController {
  constructor(private readonly streams: EventStreams) {}

  @Get()
  @Takes('Server-sent events: which things changed, never their contents')
  events(@Req() req: Request, @Res() res: Response): void {
    this.streams.open(
      req,
      res,
      () => true,
      (event) => event,
    );
  }
}
