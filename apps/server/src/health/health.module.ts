import { Controller, Get, Headers, Inject, Module, Res, UseGuards } from '@nestjs/common';
import type { Health } from '@quay/contract';
import type { Response } from 'express';
import { createHash, timingSafeEqual } from 'node:crypto';
import { BackupsModule } from '../backups/backups.module.js';
import { DirectoryModule } from '../directory/directory.module.js';
import { SignedInGuard } from '../people/signed-in.guard.js';
import { CONFIG, type Config } from '../platform/config.js';
import { For } from '../platform/for.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { notFound } from '../platform/problems/problem.js';
import { ReachModule } from '../reach/reach.module.js';
import { Gauges } from './gauges.service.js';
import { HealthService } from './health.service.js';
import { MorningNotice } from './morning-notice.js';

const digest = (text: string) => createHash('sha256').update(text).digest();

@ApiPart('health')
@Controller()
class HealthController {
  constructor(
    private readonly health: HealthService,
    private readonly gauges: Gauges,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  @Get('healthz')
  @For('anyone')
  @Operation('Whether the process lives')
  alive(@Res() res: Response): void {
    res.type('text/plain').send('ok\n');
  }

  @Get('readyz')
  @For('anyone')
  @Operation('Whether it can serve now; 503 names what is in the way')
  async ready(@Res() res: Response): Promise<void> {
    const missing = await this.health.notReady();
    res
      .status(missing.length > 0 ? 503 : 200)
      .type('text/plain')
      .send(missing.length > 0 ? `not ready: ${missing.join(', ')}\n` : 'ok\n');
  }

  @Get('metrics')
  @For('anyone')
  @Operation('Figures as OpenMetrics, for whoever has the token of the configuration')
  async metrics(
    @Headers('authorization') authorization: string | undefined,
    @Headers('accept') accept: string | undefined,
    @Res() res: Response,
  ): Promise<void> {
    const { token } = this.config.metrics;
    const asked = /^Bearer (\S+)$/.exec(authorization ?? '')?.[1];
    // Without a token there is nothing here; nor for whoever has another.
    if (token === null || asked === undefined || !timingSafeEqual(digest(asked), digest(token)))
      throw notFound('This page');
    const { type, text } = await this.gauges.told(accept);
    res.setHeader('Content-Type', type);
    res.end(text);
  }

  @Get('api/health')
  @For('run-server')
  @UseGuards(SignedInGuard)
  @Operation('Everything that makes a server fail one day, looked at now')
  look(): Promise<Health> {
    return this.health.look();
  }
}

@Module({
  imports: [BackupsModule, DirectoryModule, ReachModule],
  controllers: [HealthController],
  providers: [HealthService, Gauges, MorningNotice],
})
export class HealthModule {}
