import { Controller, Get, HttpCode, Module, Param, Post, UseGuards } from '@nestjs/common';
import { idSchema, type WorkList } from '@quay/contract';
import Joi from 'joi';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { For } from '../platform/for.js';
import { QUEUES, type QueueName } from '../platform/jobs/queues.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { WorkService } from './work.service.js';

const id = valid<string>(idSchema.required());
const kind = valid<QueueName>(
  Joi.string<QueueName>()
    .valid(...Object.keys(QUEUES))
    .required(),
);

@ApiPart('work')
@UseGuards(SignedInGuard)
@Controller('api/work')
class WorkController {
  constructor(private readonly work: WorkService) {}

  @Get()
  @For('run-server')
  @Operation('What the server does by itself: what waits, what was given up, and mail')
  list(): Promise<WorkList> {
    return this.work.list();
  }

  @Post(':kind/:id/again')
  @For('run-server')
  @HttpCode(200)
  @Operation('Try again what was given up, or mail that was refused')
  again(@Param('kind', kind) name: QueueName, @Param('id', id) workId: string): Promise<WorkList> {
    return this.work.again(name, workId);
  }
}

@Module({ controllers: [WorkController], providers: [WorkService] })
export class WorkModule {}
