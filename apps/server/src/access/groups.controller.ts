import { Body, Controller, Delete, Get, Param, Patch, Post, Put, UseGuards } from '@nestjs/common';
import {
  groupNameSchema,
  idSchema,
  managersSchema,
  memberKindSchema,
  memberSchema,
  type GroupRow,
  type MemberAsked,
} from '@quay/contract';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { Me, type Who } from '../people/who.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { GroupsService } from './groups.service.js';

const id = valid<string>(idSchema.required());

@ApiPart('people')
@UseGuards(SignedInGuard)
@Controller('api/groups')
export class GroupsController {
  constructor(private readonly groups: GroupsService) {}

  @Get()
  @For('staff')
  @Operation('The groups that one looks after')
  list(@Me() who: Who): Promise<GroupRow[]> {
    return this.groups.list(who);
  }

  @Post()
  @For('run-people')
  @Operation('Make a group', groupNameSchema)
  make(@Me() who: Who, @Body(valid(groupNameSchema)) { name }: { name: string }): Promise<GroupRow[]> {
    return this.groups.make(who, name);
  }

  @Patch(':id')
  @For('run-people')
  @Operation('Another name for a group', groupNameSchema)
  rename(
    @Me() who: Who,
    @Param('id', id) groupId: string,
    @Body(valid(groupNameSchema)) { name }: { name: string },
  ): Promise<GroupRow[]> {
    return this.groups.rename(who, groupId, name);
  }

  @Delete(':id')
  @For('run-people')
  @Operation('End a group: it gives nothing from then on')
  end(@Me() who: Who, @Param('id', id) groupId: string): Promise<GroupRow[]> {
    return this.groups.end(who, groupId);
  }

  @Put(':id/managers')
  @For('run-people')
  @Operation('Who may put people into a group and take them out', managersSchema)
  manage(
    @Me() who: Who,
    @Param('id', id) groupId: string,
    @Body(valid(managersSchema)) { personIds }: { personIds: string[] },
  ): Promise<GroupRow[]> {
    return this.groups.manage(who, groupId, personIds);
  }

  @Post(':id/members')
  @For('group-manager')
  @Operation('Put somebody, or a group, into a group', memberSchema)
  join(
    @Me() who: Who,
    @Param('id', id) groupId: string,
    @Body(valid(memberSchema)) member: MemberAsked,
  ): Promise<GroupRow[]> {
    return this.groups.join(who, groupId, member);
  }

  @Delete(':id/members/:kind/:memberId')
  @For('group-manager')
  @Operation('Take somebody, or a group, out of a group')
  leave(
    @Me() who: Who,
    @Param('id', id) groupId: string,
    @Param('kind', valid(memberKindSchema)) of: MemberAsked['kind'],
    @Param('memberId', id) memberId: string,
  ): Promise<GroupRow[]> {
    return this.groups.leave(who, groupId, { kind: of, id: memberId });
  }
}
