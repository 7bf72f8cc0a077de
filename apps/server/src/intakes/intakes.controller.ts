import { Body, Controller, Get, HttpCode, Param, Patch, Post, UseGuards } from '@nestjs/common';
import {
  acceptSchema,
  askBackSchema,
  changeIntakeSchema,
  createIntakeSchema,
  idSchema,
  refuseSchema,
  type Accepted,
  type AskBack,
  type ChangeIntake,
  type CreateIntake,
  type DecideFiles,
  type DepositRow,
  type IntakeList,
  type IntakeRow,
  type IntakeSheet,
  type RefuseFiles,
  type Reminded,
} from '@quay/contract';
import { requireDuty } from '../people/duties.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { AskingBackService } from './asking-back.service.js';
import { IntakesService } from './intakes.service.js';
import { RemindersService } from './reminders.service.js';
import { TrayService } from './tray.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('intakes')
@UseGuards(SignedInGuard)
@Controller('api/intakes')
export class IntakesController {
  constructor(private readonly service: IntakesService) {}

  @Get()
  @For('staff')
  @Operation('Intakes that you made, or whose folder you manage (the admin: all), the last made first')
  list(@Me() who: Who): Promise<IntakeList> {
    return this.service.list(who);
  }

  @Post()
  @For('ask-for-files')
  @Operation('Ask for files: makes a page on which outsiders hand them in', createIntakeSchema)
  ask(@Me() who: Who, @Body(valid(createIntakeSchema)) asked: CreateIntake): Promise<IntakeSheet> {
    return this.service.ask(who, asked);
  }

  @Get(':id')
  @For('manage')
  @Operation('An intake with what was handed in')
  sheet(@Me() who: Who, @Param('id', id) intakeId: string): Promise<IntakeSheet> {
    return this.service.sheet(who, intakeId);
  }

  @Patch(':id')
  @For('manage')
  @Operation('Change what is named; withdraw it, or open it again', changeIntakeSchema)
  change(
    @Me() who: Who,
    @Param('id', id) intakeId: string,
    @Body(valid(changeIntakeSchema)) asked: ChangeIntake,
  ): Promise<IntakeSheet | IntakeRow> {
    if (asked.withdrawn !== true || Object.keys(asked).length > 1) requireDuty(who, 'ask-outside');
    return this.service.change(who, intakeId, asked);
  }
}

@ApiPart('intakes')
@UseGuards(SignedInGuard)
@Controller('api/intakes/:id/remind')
export class RemindersController {
  constructor(private readonly reminders: RemindersService) {}

  @Post()
  @For('manage')
  @HttpCode(200)
  @Operation('Write to those who were asked by name and have handed nothing in')
  remind(@Me() who: Who, @Param('id', id) intakeId: string): Promise<Reminded> {
    requireDuty(who, 'ask-outside');
    return this.reminders.remind(who, intakeId);
  }
}

@ApiPart('intakes')
@UseGuards(SignedInGuard)
@Controller('api/deposits/:id')
export class TrayController {
  constructor(
    private readonly tray: TrayService,
    private readonly asking: AskingBackService,
  ) {}

  @Get()
  @For('manage')
  @Operation('A deposit with all of its files')
  deposit(@Me() who: Who, @Param('id', id) depositId: string): Promise<DepositRow> {
    return this.tray.deposit(who, depositId);
  }

  @Post('accept')
  @For('manage')
  @HttpCode(200)
  @Operation('Accept files of a deposit: they go into the folder of the intake', acceptSchema)
  accept(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Body(valid(acceptSchema)) asked: DecideFiles,
  ): Promise<Accepted> {
    return this.tray.accept(who, depositId, asked);
  }

  @Post('refuse')
  @For('manage')
  @HttpCode(200)
  @Operation('Refuse files of a deposit, with a reason that its contributor is told', refuseSchema)
  refuse(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Body(valid(refuseSchema)) asked: RefuseFiles,
  ): Promise<DepositRow> {
    return this.tray.refuse(who, depositId, asked);
  }

  @Post('ask')
  @For('manage')
  @HttpCode(200)
  @Operation(
    'Ask a contributor about what they handed in; it stands on their receipt, and goes out by mail',
    askBackSchema,
  )
  ask(
    @Me() who: Who,
    @Param('id', id) depositId: string,
    @Body(valid(askBackSchema)) asked: AskBack,
  ): Promise<DepositRow> {
    return this.asking.ask(who, depositId, asked);
  }
}
