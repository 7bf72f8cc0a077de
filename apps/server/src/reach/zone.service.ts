import { Injectable } from '@nestjs/common';
import { namesAbove, type CaaRecord } from '@quay/core';
import type { CaaRecord as ResolvedCaa } from 'node:dns';
import { Resolver } from 'node:dns/promises';
import { isIP } from 'node:net';
import { setTimeout as pause } from 'node:timers/promises';
import { OwnNetwork } from '../platform/own-network.js';
import { Dialler } from '../platform/dialler.js';

/** One question, asked twice at the most. */
const ASK = { timeout: 2000, tries: 2 } as const;
/** RFC 1034 §3.6.2: chains of other names should be short; this ends those that go round. */
const CHAIN_MOST = 8;
/** A name server that is told of a change asks for it at once (RFC 1996); one that is not, after minutes. */
const SPREAD_MS = 180_000;
const LOOK_EVERY_MS = 1000;

/** What the name servers of the world say of the office's zone. */
@Injectable()
export class ZoneService {
  constructor(
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
  ) {}

  /** The name at the end of a chain of other names (CNAME), which is the name itself where there is none. */
  async endOf(name: string): Promise<string> {
    const resolver = this.resolver(this.network.resolvers);
    let end = name;
    for (let i = 0; i < CHAIN_MOST; i += 1) {
      const [next] = await resolver.resolveCname(end).catch(() => []);
      if (next === undefined || next.toLowerCase() === end) break;
      end = next.toLowerCase();
    }
    return end;
  }

  /** The CAA records that hold for a name (RFC 8659 §3); none where nobody could be asked. */
  async caa(host: string): Promise<CaaRecord[]> {
    const resolver = this.resolver(this.network.resolvers);
    for (const name of namesAbove(host)) {
      const records = await resolver.resolveCaa(name).catch(() => []);
      if (records.length > 0) return records.map(caaOf);
    }
    return [];
  }

  /**
   * Waits until every name server of its zone that answers tells a text of a name: an authority may ask any of them.
   * @throws Error that names those that do not, after a few minutes
   */
  async toldEverywhere(name: string, text: string, beat: () => Promise<void>): Promise<void> {
    const servers = await this.serversFor(name);
    for (const ends = Date.now() + SPREAD_MS; ;) {
      const behind = await this.behind(servers, name, text);
      if (behind.length === 0) return;
      if (Date.now() > ends)
        throw new Error(
          `The name servers ${behind.join(' and ')} did not take over ${name} within ${SPREAD_MS / 60_000} minutes`,
        );
      await beat();
      await pause(LOOK_EVERY_MS);
    }
  }

  /** What the servers of its zone say that a name leads to; null where nobody could be asked, or it is another name's. */
  async addressesOf(name: string): Promise<string[] | null> {
    if ((await this.endOf(name)) !== name.toLowerCase()) return null;
    const servers = await this.serversFor(name);
    if (servers.length === 0) return null;
    const resolver = this.resolver(servers);
    const [four, six] = await Promise.allSettled([resolver.resolve4(name), resolver.resolve6(name)]);
    const isSaid = [four, six].some((f) => f.status === 'fulfilled' || /ENODATA|ENOTFOUND/.test(codeOf(f.reason)));
    return isSaid ? [four, six].flatMap((f) => (f.status === 'fulfilled' ? f.value : [])) : null;
  }

  /** Of those that answer, the servers that do not tell the text. */
  private async behind(servers: readonly string[], name: string, text: string): Promise<string[]> {
    const late = await Promise.all(
      servers.map(async (server) => {
        try {
          const told = await this.resolver([server]).resolveTxt(name);
          return told.some((parts) => parts.join('') === text) ? null : server;
        } catch (error) {
          return /ENODATA|ENOTFOUND/.test(codeOf(error)) ? server : null;
        }
      }),
    );
    return late.filter((server): server is string => server !== null);
  }

  /** The addresses of the servers of the zone that a name is in; none where nobody could be asked. */
  private async serversFor(name: string): Promise<string[]> {
    const resolver = this.resolver(this.network.resolvers);
    let names: string[] = [];
    for (const zone of namesAbove(name)) {
      names = await resolver.resolveNs(zone).catch(() => []);
      if (names.length > 0) break;
    }
    const addresses = names.flatMap((server) => [
      resolver.resolve4(server).catch(() => []),
      resolver.resolve6(server).catch(() => []),
    ]);
    return (await Promise.all(addresses)).flat();
  }

  private resolver(servers: string[] | null): Resolver {
    const resolver = new Resolver(ASK);
    const places = this.dialler.way(servers?.filter((server) => isIP(server)) ?? null).resolvers;
    if (places) resolver.setServers(places);
    return resolver;
  }
}

const codeOf = (error: unknown): string => (error as NodeJS.ErrnoException | undefined)?.code ?? '';

function caaOf(record: ResolvedCaa): CaaRecord {
  const [tag = '', value = ''] = Object.entries(record).find(([key]) => key !== 'critical' && key !== 'type') ?? [];
  return { tag, value: String(value) };
}
