import { Inject, Injectable } from '@nestjs/common';
import type { Vantage } from '@quay/core';
import type { Measured, ProbeAsk } from '@quay/probe';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { LookoutsService } from './lookouts.service.js';
import { measuredIn, MEASURED_MOST, PROBE_MS } from './measured.js';

/** Whoever stands elsewhere and looks: probes that the file names, and outside another Lockfast Quay. */
@Injectable()
export class VantagesService {
  constructor(
    private readonly dialler: Dialler,
    private readonly lookouts: LookoutsService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Whether somebody stands there. */
  async there(vantage: Exclude<Vantage, 'office'>): Promise<boolean> {
    return this.config.reach.probes[vantage] !== undefined || (vantage === 'outside' && (await this.lookouts.any()));
  }

  /** @throws Error when nobody there answers with a measurement */
  async ask(vantage: Exclude<Vantage, 'office'>, ask: ProbeAsk): Promise<Measured> {
    const probe = this.config.reach.probes[vantage];
    if (!probe) return this.lookouts.ask(ask);
    const { status, text } = await this.dialler.http(
      'POST',
      probe.url,
      { authorization: `Bearer ${probe.token}`, 'content-type': 'application/json' },
      JSON.stringify(ask),
      PROBE_MS,
      MEASURED_MOST,
    );
    return measuredIn(status, text);
  }
}
