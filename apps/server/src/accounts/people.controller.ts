import { Body, Controller, Delete, Get, Param, Patch, Post, Query, UseGuards } from '@nestjs/common';
import {
  actOnPeopleSchema,
  changeDutySetSchema,
  changePersonSchema,
  folderQuerySchema,
  idSchema,
  importPeopleSchema,
  inviteSchema,
  leaveSchema,
  newDutySetSchema,
  newGuestSchema,
  newPersonSchema,
  thenSchema,
  type ActOnPeople,
  type ChangeDutySet,
  type ChangePerson,
  type DutySetRow,
  type FolderQuery,
  type HandOver,
  type ImportAnswer,
  type ImportPeople,
  type Invitation,
  type Leave,
  type Leaving,
  type NewDutySet,
  type NewGuest,
  type NewPerson,
  type People,
  type PersonSheet,
  type PersonThen,
  type SeenAs,
  type SeenFolder,
  type SeenShare,
} from '@quay/contract';
import { ReachedService } from '../access/reached.service.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { DutySetsService } from './duty-sets.service.js';
import { GuestsService } from './guests.service.js';
import { ImportService } from './import.service.js';
import { LeavingService } from './leaving.service.js';
import { SeenAsService } from './seen-as.service.js';
import { PeopleService } from './people.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/people')
export class PeopleController {
  constructor(
    private readonly people: PeopleService,
    private readonly left: LeavingService,
    private readonly imports: ImportService,
    private readonly seen: SeenAsService,
    private readonly reached: ReachedService,
  ) {}

  @Get()
  @For('run-people')
  @Operation('Every account, every group, and what somebody kept after leaving one')
  list(@Me() who: Who): Promise<People> {
    return this.people.list(who);
  }

  @Post()
  @For('run-people')
  @Operation('Give somebody of the office an account, which they begin with by a link', newPersonSchema)
  add(@Me() who: Who, @Body(valid(newPersonSchema)) asked: NewPerson): Promise<Invitation> {
    return this.people.add(who, asked);
  }

  @Post('import')
  @For('run-people')
  @Operation('Take a list of people in, or say what would happen: faults by their lines', importPeopleSchema)
  import(@Me() who: Who, @Body(valid(importPeopleSchema)) asked: ImportPeople): Promise<ImportAnswer> {
    return this.imports.take(who, asked);
  }

  @Post('acts')
  @For('run-people')
  @Operation('Disable or enable accounts, or sign people out everywhere: all of them or none', actOnPeopleSchema)
  act(@Me() who: Who, @Body(valid(actOnPeopleSchema)) asked: ActOnPeople): Promise<People> {
    return this.people.act(who, asked);
  }

  @Get(':id')
  @For('run-people')
  @Operation('Everything about one account')
  sheet(@Me() who: Who, @Param('id', id) personId: string): Promise<PersonSheet> {
    return this.people.sheet(who, personId);
  }

  @Get(':id/then')
  @For('run-people')
  @Operation('What somebody was and reached at a moment of the past', undefined, thenSchema)
  ofMoment(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Query(valid(thenSchema)) { at }: { at: string },
  ): Promise<PersonThen> {
    return this.reached.ofMoment(who, personId, at);
  }

  @Get(':id/seen')
  @For('run-people')
  @Operation('The stores as somebody gets them; their home is not among them')
  seenAs(@Me() who: Who, @Param('id', id) personId: string): Promise<SeenAs> {
    return this.seen.start(who, personId);
  }

  @Get(':id/seen/folders/:folderId')
  @For('run-people')
  @Operation('A folder as somebody gets it, as far as whoever asks may see it', folderQuerySchema)
  seenFolder(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Param('folderId', id) folderId: string,
    @Query(valid(folderQuerySchema)) query: FolderQuery,
  ): Promise<SeenFolder> {
    return this.seen.folder(who, personId, folderId, query);
  }

  @Get(':id/seen/shares/:shareId')
  @For('run-people')
  @Operation('The page of a share as somebody gets it whom it is for; nothing is counted')
  seenShare(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Param('shareId', id) shareId: string,
  ): Promise<SeenShare> {
    return this.seen.share(who, personId, shareId);
  }

  @Patch(':id')
  @For('run-people')
  @Operation('Change an account', changePersonSchema)
  change(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Body(valid(changePersonSchema)) asked: ChangePerson,
  ): Promise<PersonSheet> {
    return this.people.change(who, personId, asked);
  }

  @Post(':id/invitation')
  @For('run-people')
  @Operation(
    'Another link by which they set a password, or a password that they change; links before it are void',
    inviteSchema,
  )
  invite(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Body(valid(inviteSchema)) { by }: { by: HandOver },
  ): Promise<Invitation> {
    return this.people.invite(who, personId, by);
  }

  @Get(':id/leaving')
  @For('run-people')
  @Operation('What somebody leaves behind, and who could take it over')
  leaving(@Me() who: Who, @Param('id', id) personId: string): Promise<Leaving> {
    return this.left.look(who, personId);
  }

  @Post(':id/leaving')
  @For('run-people')
  @Operation('See somebody off: account, sessions, groups, grants, shares, guests and home in one act', leaveSchema)
  leave(
    @Me() who: Who,
    @Param('id', id) personId: string,
    @Body(valid(leaveSchema)) asked: Leave,
  ): Promise<PersonSheet> {
    return this.left.leave(who, personId, asked);
  }

  @Delete(':id/leaving')
  @For('run-people')
  @Operation('Take that back, until their home is gone')
  comeBack(@Me() who: Who, @Param('id', id) personId: string): Promise<PersonSheet> {
    return this.left.comeBack(who, personId);
  }

  @Delete(':id/factor')
  @For('run-people')
  @Operation('Switch off a second factor that somebody lost')
  factorOff(@Me() who: Who, @Param('id', id) personId: string): Promise<PersonSheet> {
    return this.people.factorOff(who, personId);
  }
}

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/duty-sets')
export class DutySetsController {
  constructor(private readonly sets: DutySetsService) {}

  @Post()
  @For('run-people')
  @Operation('Give duties a name, so that several people have the same', newDutySetSchema)
  make(@Me() who: Who, @Body(valid(newDutySetSchema)) asked: NewDutySet): Promise<DutySetRow[]> {
    return this.sets.make(who, asked);
  }

  @Patch(':id')
  @For('run-people')
  @Operation('Change a set of duties, for everybody who has it', changeDutySetSchema)
  alter(
    @Me() who: Who,
    @Param('id', id) setId: string,
    @Body(valid(changeDutySetSchema)) asked: ChangeDutySet,
  ): Promise<DutySetRow[]> {
    return this.sets.alter(who, setId, asked);
  }

  @Delete(':id')
  @For('run-people')
  @Operation('Remove a set of duties; who had it keeps its duties as their own')
  remove(@Me() who: Who, @Param('id', id) setId: string): Promise<DutySetRow[]> {
    return this.sets.remove(who, setId);
  }
}

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/guests')
export class GuestsController {
  constructor(private readonly guests: GuestsService) {}

  @Post()
  @For('invite-guests')
  @Operation('Let somebody from outside into a folder, with an account of their own', newGuestSchema)
  invite(@Me() who: Who, @Body(valid(newGuestSchema)) asked: NewGuest): Promise<Invitation> {
    return this.guests.invite(who, asked);
  }
}
