import { Controller, Delete, Get, HttpCode, Param, Post, Req, Res, UseGuards } from '@nestjs/common';
import type { CalendarLink } from '@quay/contract';
import type { Request, Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { clientAddress } from '../platform/client-address.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { CalendarService } from './calendar.service.js';

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/calendar')
export class CalendarLinkController {
  constructor(private readonly service: CalendarService) {}

  @Get()
  @For('signed-in')
  @Operation('The private address of the calendar of your shares')
  link(@Me() who: Who): Promise<CalendarLink> {
    return this.service.link(who);
  }

  @Post()
  @For('signed-in')
  @HttpCode(200)
  @Operation('A new address for it; the one before is void')
  renew(@Me() who: Who): Promise<CalendarLink> {
    return this.service.renew(who);
  }

  @Delete()
  @For('signed-in')
  @Operation('No such address any more')
  end(@Me() who: Who): Promise<CalendarLink> {
    return this.service.end(who);
  }
}

@ApiPart('shares')
@Controller('calendar')
export class CalendarController {
  constructor(private readonly service: CalendarService) {}

  @Get(':token')
  @For('anyone')
  @Operation('The windows of somebody’s shares as a calendar, for whoever has its private address')
  async events(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const events = await this.service.events(token, clientAddress(req));
    res.type('text/calendar; charset=utf-8').send(events);
  }
}
