import { Body, Controller, Get, HttpCode, Param, Post, UseGuards } from '@nestjs/common';
import {
  handOverByMailSchema,
  idSchema,
  noteHandOverSchema,
  type HandOverByMail,
  type HandOvers,
  type NoteHandOver,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { HandOverService } from './hand-over.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/shares/:id/hand-overs')
export class HandOverController {
  constructor(private readonly service: HandOverService) {}

  @Get()
  @For('publisher')
  @Operation('To whom the link and the password of a share went, by which way, and what is not true any more of it')
  of(@Me() who: Who, @Param('id', id) shareId: string): Promise<HandOvers> {
    return this.service.of(who, shareId);
  }

  @Post('mail')
  @For('publisher')
  @HttpCode(200)
  @Operation('Send the link by mail, to each by themselves', handOverByMailSchema)
  byMail(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Body(valid(handOverByMailSchema)) asked: HandOverByMail,
  ): Promise<HandOvers> {
    return this.service.byMail(who, shareId, asked);
  }

  @Post()
  @For('publisher')
  @HttpCode(200)
  @Operation('Write down that link or password was handed over', noteHandOverSchema)
  note(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Body(valid(noteHandOverSchema)) asked: NoteHandOver,
  ): Promise<HandOvers> {
    return this.service.note(who, shareId, asked);
  }
}
