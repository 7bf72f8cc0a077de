import { Module } from '@nestjs/common';
import { EventStreams } from './event-streams.js';
import { LiveController } from './live.controller.js';

@Module({ controllers: [LiveController], providers: [EventStreams], exports: [EventStreams] })
export class LiveModule {}
