import { Body, Controller, Get, HttpCode, Param, Patch, Post, Res, UseGuards } from '@nestjs/common';
import {
  forgetRecipientSchema,
  handOverByMailSchema,
  handOverByTextSchema,
  idSchema,
  noteHandOverSchema,
  settleHandOverSchema,
  type ForgetRecipient,
  type HandOverByMail,
  type HandOverByText,
  type HandOverFinding,
  type HandOvers,
  type KnownAddressee,
  type NoteHandOver,
  type SettleHandOver,
} from '@quay/contract';
import contentDisposition from 'content-disposition';
import type { Response } from 'express';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { HandOverService } from './hand-over.service.js';
import { SendingService } from './sending.service.js';
import { SheetService } from './sheet.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/shares/:id/hand-overs')
export class HandOverController {
  constructor(
    private readonly service: HandOverService,
    private readonly sending: SendingService,
    private readonly sheets: SheetService,
  ) {}

  @Get()
  @For('publisher')
  @Operation('To whom the link and the password of a share went, by which way, and what is not true any more of it')
  of(@Me() who: Who, @Param('id', id) shareId: string): Promise<HandOvers> {
    return this.service.of(who, shareId);
  }

  @Get('sheet.pdf')
  @For('publisher')
  @Operation('A sheet of paper with the link, its QR code and the terms, and room to write the password')
  async sheet(@Me() who: Who, @Param('id', id) shareId: string, @Res() res: Response): Promise<void> {
    const { title, pdf } = await this.sheets.of(who, shareId);
    res.setHeader('Content-Disposition', contentDisposition(`${title}.pdf`, { type: 'inline' }));
    res.type('application/pdf').send(pdf);
  }

  @Post('mail')
  @For('publisher')
  @HttpCode(200)
  @Operation('Send the link or the files by mail, or that it is withdrawn, to each by themselves', handOverByMailSchema)
  byMail(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Body(valid(handOverByMailSchema)) asked: HandOverByMail,
  ): Promise<HandOvers> {
    return this.sending.byMail(who, shareId, asked);
  }

  @Post('text')
  @For('publisher')
  @HttpCode(200)
  @Operation('Send link or password as a text message, to each by themselves', handOverByTextSchema)
  byText(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Body(valid(handOverByTextSchema)) asked: HandOverByText,
  ): Promise<HandOvers> {
    return this.sending.byText(who, shareId, asked);
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

  @Patch(':handOverId')
  @For('publisher')
  @Operation('Say that nothing more is to be done about one that went wrong', settleHandOverSchema)
  settle(
    @Me() who: Who,
    @Param('id', id) shareId: string,
    @Param('handOverId', id) handOverId: string,
    @Body(valid(settleHandOverSchema)) asked: SettleHandOver,
  ): Promise<HandOvers> {
    return this.service.settle(who, shareId, handOverId, asked.settled);
  }
}

@ApiPart('shares')
@UseGuards(SignedInGuard)
@Controller('api/hand-overs')
export class HandOverFindingsController {
  constructor(private readonly service: HandOverService) {}

  @Get('needing')
  @For('signed-in')
  @Operation('What you handed over that did not arrive, or went the same way as its other half')
  needing(@Me() who: Who): Promise<HandOverFinding[]> {
    return this.service.needing(who);
  }

  @Get('recipients')
  @For('signed-in')
  @Operation('Whom you wrote to before')
  known(@Me() who: Who): Promise<KnownAddressee[]> {
    return this.service.known(who);
  }

  @Post('recipients/forget')
  @For('signed-in')
  @HttpCode(200)
  @Operation('Suggest somebody no more', forgetRecipientSchema)
  forget(@Me() who: Who, @Body(valid(forgetRecipientSchema)) asked: ForgetRecipient): Promise<KnownAddressee[]> {
    return this.service.forget(who, asked.recipient);
  }
}
