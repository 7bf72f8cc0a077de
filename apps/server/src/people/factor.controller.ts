import { Body, Controller, Delete, Get, HttpCode, Post, UseGuards } from '@nestjs/common';
import {
  beginFactorSchema,
  factorCodeSchema,
  type BeginFactor,
  type FactorBegun,
  type FactorCode,
  type RecoveryCodes,
  type SecondFactor,
} from '@quay/contract';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { FactorService } from './factor.service.js';
import { SignedInGuard } from './signed-in.guard.js';
import { Me, type Who } from './who.js';

@ApiPart('session')
@UseGuards(SignedInGuard)
@Controller('api/session/factor')
export class FactorController {
  constructor(private readonly factor: FactorService) {}

  @Get()
  @For('hindered')
  @Operation('The own second factor')
  state(@Me() who: Who): Promise<SecondFactor> {
    return this.factor.state(who);
  }

  @Post()
  @For('hindered')
  @Operation('Begin a second factor: what an authenticator is told', beginFactorSchema)
  begin(@Me() who: Who, @Body(valid(beginFactorSchema)) { password }: BeginFactor): Promise<FactorBegun> {
    return this.factor.begin(who, password);
  }

  @Post('decline')
  @For('signed-in')
  @HttpCode(204)
  @Operation('Decline a second factor that was offered')
  decline(@Me() who: Who): Promise<void> {
    return this.factor.decline(who);
  }

  @Post('first-code')
  @For('hindered')
  @Operation('The first code of a new authenticator; from here on codes are asked for', factorCodeSchema)
  confirm(@Me() who: Who, @Body(valid(factorCodeSchema)) { code }: FactorCode): Promise<RecoveryCodes> {
    return this.factor.confirm(who, code);
  }

  @Post('recovery-codes')
  @For('signed-in')
  @Operation('New recovery codes; those before are void', factorCodeSchema)
  renewCodes(@Me() who: Who, @Body(valid(factorCodeSchema)) { code }: FactorCode): Promise<RecoveryCodes> {
    return this.factor.renewCodes(who, code);
  }

  @Delete('browsers')
  @For('signed-in')
  @Operation('Ask for a code in every browser again')
  forgetBrowsers(@Me() who: Who): Promise<SecondFactor> {
    return this.factor.forgetBrowsers(who);
  }

  @Delete()
  @For('signed-in')
  @HttpCode(204)
  @Operation('Switch the own second factor off', factorCodeSchema)
  end(@Me() who: Who, @Body(valid(factorCodeSchema)) { code }: FactorCode): Promise<void> {
    return this.factor.end(who, code);
  }
}
