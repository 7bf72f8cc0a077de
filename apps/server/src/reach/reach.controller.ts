import {
  Body,
  Controller,
  Delete,
  Get,
  Headers,
  HttpCode,
  Inject,
  Param,
  Patch,
  Post,
  Put,
  Req,
  Res,
  UseGuards,
} from '@nestjs/common';
import {
  accountBindingSchema,
  changeAddressSchema,
  guideStepSchema,
  idSchema,
  invitationSchema,
  lookoutAskSchema,
  lookoutCodeSchema,
  lookoutPairSchema,
  moveLinksSchema,
  nameServerSchema,
  nameUpdateSchema,
  NETWORK_VALUE_WORDS,
  networkSchema,
  networkValueNameSchema,
  networkValueSchema,
  newAddressSchema,
  ownCertificateSchema,
  plannedLineSchema,
  remedySchema,
  type AccountBinding,
  type AddressRow,
  type AddressSheet,
  type AffectedLink,
  type ChangeAddress,
  type ExposureAnswer,
  type LookoutAsk,
  type LookoutCode,
  type LookoutPair,
  type NameServerSettings,
  type NetworkValue,
  type NameUpdate,
  type NewAddress,
  type ReachCheck,
  type ReachNetwork,
  type RemedyAct,
  type RemedyAnswer,
  type TelephoneProof,
} from '@quay/contract';
import {
  addressText,
  adviseWay,
  compareWays,
  VANTAGES,
  type GuideStep,
  type PlannedLine,
  type Vantage,
  type WayCompared,
} from '@quay/core';
import type { Request, Response } from 'express';
import Joi from 'joi';
import type { EntityManager } from 'typeorm';
import { fileURLToPath } from 'node:url';
import { LedgerService } from '../ledger/ledger.service.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import type { Measured } from '@quay/probe';
import { clientAddress } from '../platform/client-address.js';
import { log } from '../platform/log/log.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { actorOf } from '../stores/names.js';
import { AccountsService } from './accounts.service.js';
import { AddressesService } from './addresses.service.js';
import { CheckService } from './check.service.js';
import { ExposureService } from './exposure.service.js';
import { LookoutsService } from './lookouts.service.js';
import { NameServersService, type Network } from './name-servers.service.js';
import { sendProof } from './proof-page.js';
import { ProofsService } from './proofs.service.js';
import { RemediesService } from './remedies.service.js';
import { RelayLines } from './relay-lines.js';
import { RouterService } from './router.service.js';
import { Doors } from './doors.js';
import { noAuthority } from './orders.service.js';
import { OtherNamesService } from './other-names.service.js';
import { OwnNetwork } from '../platform/own-network.js';

const id = valid<string>(idSchema.required());
const networkValue = valid<NetworkValue>(networkValueNameSchema);
const vantage = valid<Vantage>(
  Joi.string<Vantage>()
    .valid(...VANTAGES)
    .required(),
);

/** Checks and guides make requests to other machines: only those whose duty it is may ask for that. */
@ApiPart('reach')
@UseGuards(SignedInGuard)
@Controller('api/reach')
export class ReachController {
  constructor(
    private readonly addresses: AddressesService,
    private readonly checks: CheckService,
    private readonly remedies: RemediesService,
    private readonly exposure: ExposureService,
    private readonly names: NameServersService,
    private readonly accounts: AccountsService,
    private readonly others: OtherNamesService,
    private readonly router: RouterService,
    private readonly proofs: ProofsService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly own: OwnNetwork,
    private readonly doors: Doors,
    private readonly relays: RelayLines,
    private readonly lookouts: LookoutsService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  @Get('addresses')
  @For('run-reach')
  @Operation('Addresses that links are built on, with how each stands')
  list(): Promise<AddressRow[]> {
    return this.addresses.list();
  }

  @Post('addresses')
  @For('run-reach')
  @Operation('Add an address', newAddressSchema)
  add(@Me() who: Who, @Body(valid(newAddressSchema)) asked: NewAddress): Promise<AddressRow> {
    return this.addresses.add(who, asked);
  }

  @Get('addresses/:id')
  @For('run-reach')
  @Operation('An address with its guide, its newest check and what is renewed')
  sheet(@Param('id', id) addressId: string): Promise<AddressSheet> {
    return this.addresses.sheet(addressId);
  }

  @Patch('addresses/:id')
  @For('run-reach')
  @Operation('Change an address; links that would change must have been seen', changeAddressSchema)
  change(
    @Me() who: Who,
    @Param('id', id) addressId: string,
    @Body(valid(changeAddressSchema)) asked: ChangeAddress,
  ): Promise<AddressRow> {
    return this.addresses.change(who, addressId, asked);
  }

  @Delete('addresses/:id')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Remove an address that no open link is built on')
  remove(@Me() who: Who, @Param('id', id) addressId: string): Promise<void> {
    return this.addresses.remove(who, addressId);
  }

  @Get('addresses/:id/links')
  @For('run-reach')
  @Operation('Links that could still be opened and are built on an address')
  links(@Me() who: Who, @Param('id', id) addressId: string): Promise<AffectedLink[]> {
    return this.addresses.links(who, addressId);
  }

  @Post('addresses/:id/links/move')
  @For('run-reach')
  @HttpCode(200)
  @Operation('Build the links of an address on another', moveLinksSchema)
  move(
    @Me() who: Who,
    @Param('id', id) addressId: string,
    @Body(valid(moveLinksSchema)) asked: { to: string },
  ): Promise<{ moved: number }> {
    return this.addresses.moveLinks(who, addressId, asked.to);
  }

  @Post('addresses/:id/check')
  @For('run-reach')
  @HttpCode(200)
  @Operation('Follow the way in from every vantage now')
  async check(@Param('id', id) addressId: string): Promise<ReachCheck> {
    return this.checks.check(addressId, 'asked');
  }

  @Post('addresses/:id/remedies/:vantage')
  @For('run-reach')
  @HttpCode(200)
  @Operation('Do what mends a stage, and check again', remedySchema)
  async remedy(
    @Me() who: Who,
    @Param('id', id) addressId: string,
    @Param('vantage', vantage) from: Vantage,
    @Body(valid(remedySchema)) asked: { act: RemedyAct },
  ): Promise<RemedyAnswer> {
    return this.remedies.act(actorOf(who), await this.addresses.require(addressId), asked.act, from);
  }

  @Post('addresses/:id/guide')
  @For('run-reach')
  @HttpCode(200)
  @Operation('Do a step of the guide, or have one verified that was done by hand', guideStepSchema)
  async guide(
    @Me() who: Who,
    @Param('id', id) addressId: string,
    @Body(valid(guideStepSchema)) asked: { step: GuideStep; how: 'program' | 'hand' },
  ): Promise<RemedyAnswer> {
    const address = await this.addresses.require(addressId);
    return asked.how === 'program'
      ? this.remedies.step(actorOf(who), address, asked.step)
      : this.remedies.verify(address, asked.step);
  }

  @Put('addresses/:id/certificate')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Serve a certificate that was got by hand; its key is kept sealed and never told', ownCertificateSchema)
  async certificate(
    @Me() who: Who,
    @Param('id', id) addressId: string,
    @Body(valid(ownCertificateSchema)) asked: { chain: string; key: string },
  ): Promise<void> {
    await this.remedies.ownCertificate(actorOf(who), await this.addresses.require(addressId), asked.chain, asked.key);
  }

  @Get('addresses/:id/exposure')
  @For('run-reach')
  @Operation('What answers from outside, port by port and path by path')
  async exposed(@Param('id', id) addressId: string): Promise<ExposureAnswer> {
    return this.exposure.look(await this.addresses.require(addressId));
  }

  @Post('addresses/:id/telephone')
  @For('run-reach')
  @HttpCode(200)
  @Operation('A link that proves the way in by itself, when opened on a telephone off the office network')
  async telephone(@Param('id', id) addressId: string): Promise<TelephoneProof> {
    const address = await this.addresses.require(addressId);
    const { nonce, endsAt } = await this.proofs.make(addressId);
    return { url: `${addressText(address)}/reach/probe/${nonce}`, endsAt: endsAt.toISOString(), seen: null };
  }

  @Get('addresses/:id/telephone')
  @For('run-reach')
  @Operation('The last proof by telephone')
  async telephoneSeen(@Param('id', id) addressId: string): Promise<{ seen: TelephoneProof['seen'] }> {
    return { seen: await this.proofs.telephone((await this.addresses.require(addressId)).id) };
  }

  @Get('network')
  @For('run-reach')
  @Operation('How the server stands in its network')
  async network(): Promise<ReachNetwork> {
    const { probes } = this.config.reach;
    const { insideAddress, insideAddress6, gateway, authority } = this.own;
    const relay = await this.relays.state();
    const [{ line, protocol }, nameServers] = await Promise.all([this.router.line(), this.names.list()]);
    return {
      own: this.own.told(),
      doors: this.doors.standing,
      publicAddress: line.seenAddress ?? line.routerAddress,
      advice: adviseWay({ insideAddress, insideAddress6, gateway, ...line, protocol, hasRelay: relay !== null }),
      nameServers,
      probes: Object.keys(probes),
      lookouts: await this.lookouts.list(),
      nameUpdate: await this.others.shown(),
      nameHook: this.config.reach.nameHook,
      relay,
      authority: authority ? { directory: authority, bindingId: await this.accounts.bindingId(authority) } : null,
    };
  }

  @Put('network/:value')
  @For('run-reach')
  @HttpCode(204)
  @Operation('What the server goes by in its network, in place of what it finds')
  async say(
    @Me() who: Who,
    @Param('value', networkValue) name: NetworkValue,
    @Body() asked: { value: string[] },
  ): Promise<void> {
    const { value } = valid(networkValueSchema(name)).transform(asked) as { value: string[] };
    if (this.own.toldOf(name).from === 'file')
      throw new Problem('conflict', 'reach.in-file', 'The file says this; change it there.');
    await this.changeNetwork(who, name, value.join(', '), (tx) => this.own.say(tx, name, value));
  }

  @Delete('network/:value')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Go by what is found again')
  async unsay(@Me() who: Who, @Param('value', networkValue) name: NetworkValue): Promise<void> {
    await this.changeNetwork(who, name, 'as it is found', (tx) => this.own.unsay(tx, name));
  }

  private async changeNetwork(
    who: Who,
    name: NetworkValue,
    value: string,
    work: (tx: EntityManager) => Promise<void>,
  ): Promise<void> {
    await this.events.change(async (tx) => {
      await work(tx);
      await this.events.tell(tx, { topic: 'reach', id: 'network' });
      const detail = { what: NETWORK_VALUE_WORDS[name], value };
      await this.ledger.append(tx, { kind: 'reach.network', actor: actorOf(who), detail });
    });
    await this.own.load();
  }

  @Post('lookouts/code')
  @For('run-reach')
  @HttpCode(200)
  @Operation(
    'A code for another Lockfast Quay: whoever takes it looks at this one from outside, and the other way round',
  )
  async lookoutCode(@Me() who: Who): Promise<LookoutCode> {
    const { code, endsAt } = await this.events.change((tx) => this.lookouts.makeCode(tx));
    log.info({ by: who.personId }, 'a code for another office was made');
    return { code, endsAt: endsAt.toISOString() };
  }

  @Post('lookouts')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Take the code of another Lockfast Quay', lookoutCodeSchema)
  async takeLookout(@Me() who: Who, @Body(valid(lookoutCodeSchema)) asked: { code: string }): Promise<void> {
    await this.lookouts.take(asked.code, async (tx, name) => {
      await this.events.tell(tx, { topic: 'reach', id: 'lookouts' });
      await this.ledger.append(tx, { kind: 'reach.lookout', actor: actorOf(who), detail: { name } });
    });
  }

  @Delete('lookouts/:id')
  @For('run-reach')
  @HttpCode(204)
  @Operation('End that another office and this one look at each other')
  async forgetLookout(@Me() who: Who, @Param('id', id) lookoutId: string): Promise<void> {
    await this.events.change(async (tx) => {
      const name = await this.lookouts.forget(tx, lookoutId);
      await this.events.tell(tx, { topic: 'reach', id: 'lookouts' });
      await this.ledger.append(tx, { kind: 'reach.lookout-gone', actor: actorOf(who), detail: { name } });
    });
  }

  @Get('probe.js')
  @For('run-reach')
  @Operation('The probe: one file that runs on any machine with Node.js')
  probe(@Res() res: Response): void {
    res.setHeader('Content-Type', 'text/javascript; charset=utf-8');
    res.setHeader('Content-Disposition', 'attachment; filename="probe.mjs"');
    res.sendFile(fileURLToPath(import.meta.resolve('@quay/probe')));
  }

  @Put('name-servers/:network')
  @For('run-reach')
  @HttpCode(204)
  @Operation('The key with which records are changed; kept sealed, never told again', nameServerSchema)
  async nameServer(
    @Me() who: Who,
    @Param('network', valid<Network>(networkSchema)) network: Network,
    @Body(valid(nameServerSchema)) asked: NameServerSettings,
  ): Promise<void> {
    await this.events.change(async (tx) => {
      await this.names.keep(tx, network, asked);
      await this.events.tell(tx, { topic: 'reach', id: network });
      await this.ledger.append(tx, { kind: 'reach.key', actor: actorOf(who), detail: { network } });
    });
  }

  @Put('name-update')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Where a name is changed by an address that is asked for; its secret is kept sealed', nameUpdateSchema)
  async nameUpdate(@Me() who: Who, @Body(valid(nameUpdateSchema)) asked: NameUpdate): Promise<void> {
    await this.events.change(async (tx) => {
      await this.others.keep(tx, asked);
      await this.events.tell(tx, { topic: 'reach', id: 'names' });
      const detail = { name: asked.name, host: new URL(asked.url).host };
      await this.ledger.append(tx, { kind: 'reach.name-update', actor: actorOf(who), detail });
    });
  }

  @Delete('name-update')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Forget where the name is changed')
  async forgetNameUpdate(@Me() who: Who): Promise<void> {
    await this.events.change(async (tx) => {
      await this.others.forget(tx);
      await this.events.tell(tx, { topic: 'reach', id: 'names' });
      await this.ledger.append(tx, { kind: 'reach.name-update-gone', actor: actorOf(who), detail: {} });
    });
  }

  @Put('relay')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Accept the invitation of a relay; it is kept sealed', invitationSchema)
  async relay(@Me() who: Who, @Body(valid(invitationSchema)) asked: { code: string }): Promise<void> {
    await this.events.change(async (tx) => {
      const { host, office } = await this.relays.accept(tx, asked.code);
      await this.events.tell(tx, { topic: 'reach', id: 'relay' });
      await this.ledger.append(tx, { kind: 'reach.relay', actor: actorOf(who), detail: { host, office } });
    });
  }

  @Delete('relay')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Leave the relay, where no address is reached through it')
  async leaveRelay(@Me() who: Who): Promise<void> {
    await this.events.change(async (tx) => {
      const [used] = await tx.query<object[]>(
        `SELECT 1 FROM address WHERE way_in = 'relay' OR fallback = 'auto' LIMIT 1`,
      );
      if (used)
        throw new Problem(
          'conflict',
          'reach.relay-in-use',
          'An address is reached through the relay, or would fall back to it. Change its way in first.',
        );
      await this.relays.decline(tx);
      await this.events.tell(tx, { topic: 'reach', id: 'relay' });
      await this.ledger.append(tx, { kind: 'reach.relay-left', actor: actorOf(who), detail: {} });
    });
  }

  @Put('authority/binding')
  @For('run-reach')
  @HttpCode(204)
  @Operation('Whom the certificate authority knows the office as; the key is kept sealed', accountBindingSchema)
  async binding(@Me() who: Who, @Body(valid(accountBindingSchema)) asked: AccountBinding): Promise<void> {
    const directory = this.own.authority;
    if (!directory) throw noAuthority();
    await this.events.change(async (tx) => {
      await this.accounts.bind(tx, directory, asked);
      await this.events.tell(tx, { topic: 'reach', id: 'authority' });
      const detail = { authority: new URL(directory).host, id: asked.id };
      await this.ledger.append(tx, { kind: 'reach.binding', actor: actorOf(who), detail });
    });
  }

  @Post('compare')
  @For('run-reach')
  @HttpCode(200)
  @Operation('Which ways in would work on a line, before anything is bought', plannedLineSchema)
  compare(@Body(valid(plannedLineSchema)) planned: PlannedLine): WayCompared[] {
    return compareWays(planned);
  }
}

const bearerOf = (authorization: string | undefined): string | null =>
  /^Bearer ([\w-]{43})$/.exec(authorization ?? '')?.[1] ?? null;

/** The page that proves the way in. Open to everybody: what it tells is nothing without the nonce. */
@ApiPart('reach')
@Controller('reach/probe')
export class ProofController {
  constructor(
    private readonly proofs: ProofsService,
    private readonly lookouts: LookoutsService,
  ) {}

  @Post('pair')
  @For('anyone')
  @HttpCode(200)
  @Operation('Another office takes a code that was made here', lookoutPairSchema)
  pair(
    @Req() req: Request,
    @Headers('authorization') authorization: string | undefined,
    @Body(valid(lookoutPairSchema)) asked: LookoutPair,
  ): Promise<{ name: string }> {
    return this.lookouts.pair(bearerOf(authorization), asked, clientAddress(req));
  }

  @Post('look')
  @For('anyone')
  @HttpCode(200)
  @Operation('Another office has this one look whether its way in works', lookoutAskSchema)
  look(
    @Headers('authorization') authorization: string | undefined,
    @Body(valid(lookoutAskSchema)) asked: LookoutAsk,
  ): Promise<Measured> {
    return this.lookouts.lookFor(bearerOf(authorization), asked);
  }

  @Get()
  @For('anyone')
  @Operation('Says only that this server answers')
  here(): { answers: string } {
    return { answers: 'Lockfast Quay' };
  }

  @Get(':nonce')
  @For('anyone')
  @Operation('Proves that a request came through; a nonce counts once')
  proof(
    @Param(
      'nonce',
      valid<string>(
        Joi.string()
          .pattern(/^[\w-]{10,100}$/)
          .required(),
      ),
    )
    nonce: string,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    return sendProof(this.proofs, nonce, req, res, req.secure ? 'HTTPS' : 'HTTP');
  }
}
