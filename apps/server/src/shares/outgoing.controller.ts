import { Body, Controller, Get, Post, UseGuards } from '@nestjs/common';
import { dropPlaceSchema, type AskDropPlace, type DropPlace, type Outgoing } from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { OutgoingService } from './outgoing.service.js';

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/outgoing')
export class OutgoingController {
  constructor(private readonly service: OutgoingService) {}

  @Get()
  @For('signed-in')
  @Operation('What your folder for what goes out holds, and its rule')
  state(@Me() who: Who): Promise<Outgoing> {
    return this.service.state(who);
  }

  @Post()
  @For('signed-in')
  @Operation('Make a folder in it, or in another, for files that are dropped on the slip', dropPlaceSchema)
  place(@Me() who: Who, @Body(valid(dropPlaceSchema)) asked: AskDropPlace): Promise<DropPlace> {
    return this.service.place(who, asked);
  }
}
