import { Inject, Injectable } from '@nestjs/common';
import type { ExposureAnswer } from '@quay/contract';
import { addressText, portOf, judgeExposure, WATCHED_PATHS, WATCHED_PORTS, type Exposed } from '@quay/core';
import type { Measured, ProbeAsk } from '@quay/probe';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { log } from '../platform/log/log.js';
import { OwnNetwork } from '../platform/own-network.js';
import { Problem } from '../platform/problems/problem.js';
import { VantagesService } from './vantages.service.js';
import { type AddressRecord } from './reach.queries.js';

/** Looks from outside what answers at an address: port by port, and path by path. */
@Injectable()
export class ExposureService {
  constructor(
    private readonly clock: Clock,
    private readonly stands: VantagesService,
    private readonly network: OwnNetwork,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async look(address: AddressRecord): Promise<ExposureAnswer> {
    const at = this.clock.date().toISOString();
    if (!(await this.stands.there('outside')))
      return { at, rows: [], unavailable: 'No probe stands outside, so nobody can see what answers there.' };
    if (address.wayIn === 'office') return { at, rows: [], unavailable: 'This address is for the office only.' };
    const main = portOf(address);
    const insideAddress6 = address.wayIn === 'relay' ? null : this.network.insideAddress6;
    const ports = [
      { port: main, what: 'pages' },
      { port: 80, what: 'redirect to the encrypted address' },
      ...WATCHED_PORTS,
    ].filter((p, i, all) => all.findIndex((q) => q.port === p.port) === i);
    const rows = await Promise.all([
      ...ports.map(async ({ port, what }): Promise<Exposed> => {
        const ask = { url: `http://${hostText(address.host)}:${port}`, path: '/' };
        // Over IPv6 a firewall alone stands before this machine: what it leaves open answers, whatever the name says.
        const [named, six] = await Promise.all([
          this.ask(ask),
          insideAddress6 === null ? null : this.ask({ ...ask, address: insideAddress6 }),
        ]);
        const isOpen = named.connect?.outcome === 'connected';
        const isOpenBySix = six?.connect?.outcome === 'connected';
        return {
          what,
          port,
          path: '',
          answers: isOpen || isOpenBySix,
          found: !isOpen && isOpenBySix ? 'connected over IPv6' : (named.connect?.outcome ?? 'no address'),
        };
      }),
      ...WATCHED_PATHS.map(async ({ path, what }): Promise<Exposed> => {
        const { page } = await this.ask({ url: addressText(address), path, roots: this.config.reach.roots });
        // A path answers unless it says that nothing is there, or nothing came at all. 410 is the page of proofs
        // without a nonce.
        const answers = page !== null && page.status !== null && page.status !== 404 && page.status < 500;
        return { what, port: main, path, answers, found: page?.status ? String(page.status) : 'no answer' };
      }),
    ]);
    return {
      at,
      rows: judgeExposure(rows, { ports: address.redirect ? [main, 80] : [main], uses: address.uses }),
      unavailable: null,
    };
  }

  private async ask(ask: ProbeAsk): Promise<Measured> {
    try {
      return await this.stands.ask('outside', ask);
    } catch (error) {
      log.info({ err: error }, 'nobody outside answered');
      throw new Problem('unavailable', 'reach.probe-silent', 'The probe outside does not answer.');
    }
  }
}

const hostText = (host: string): string => (host.includes(':') ? `[${host}]` : host);
