import { Inject, Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { createSocket, type Socket } from 'node:dgram';
import { aside } from '../platform/aside.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { log } from '../platform/log/log.js';
import { OwnNetwork } from '../platform/own-network.js';
import { decodeNews, SSDP_ADDRESS, SSDP_PORT } from './protocols/gateway-device.js';
import { decodePcpAnnounce, decodePmpAddress } from './protocols/port-control.js';
import { UpkeepService } from './upkeep.service.js';

/** RFC 6886 §3.2.1 and RFC 6887 §14.1.1: where a router tells all machines that it has begun anew. */
const ANNOUNCED_PORT = 5350;
/** Anybody on the network can say so, and a router says it several times: it is looked at once in so long. */
const LOOK_MS = 10_000;

/**
 * Hears when the router begins anew, or has another address, so that nobody waits for the next round of upkeep. What is
 * said is not believed: it only makes the program look.
 */
@Injectable()
export class RouterNews implements OnApplicationBootstrap, OnApplicationShutdown {
  private readonly sockets: Socket[] = [];
  private lookedAt = -Infinity;
  private again: NodeJS.Timeout | null = null;

  constructor(
    private readonly clock: Clock,
    private readonly network: OwnNetwork,
    private readonly upkeep: UpkeepService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  onApplicationBootstrap(): void {
    const { findsNetwork, wiring, checkEveryMinutes } = this.config.reach;
    if (!this.config.serves || !findsNetwork || wiring !== null || checkEveryMinutes === 0) return;
    this.hear(ANNOUNCED_PORT, null, (bytes) => {
      const pmp = decodePmpAddress(bytes);
      return decodePcpAnnounce(bytes) !== null || (pmp !== null && 'address' in pmp);
    });
    this.hear(SSDP_PORT, SSDP_ADDRESS, decodeNews);
  }

  onApplicationShutdown(): void {
    if (this.again) clearTimeout(this.again);
    for (const socket of this.sockets) socket.close();
  }

  /** @param group to be joined; null: the one that every machine is in */
  private hear(port: number, group: string | null, isNews: (bytes: Buffer) => boolean): void {
    const socket = createSocket({ type: 'udp4', reuseAddr: true });
    socket.on('error', (error) => log.info({ err: error, port }, 'what the router announces cannot be heard'));
    socket.on('message', (bytes, from) => {
      if (from.address === this.network.gateway && isNews(bytes)) this.look();
    });
    socket.bind(port, () => {
      try {
        if (group) socket.addMembership(group, this.network.insideAddress);
      } catch (error) {
        log.info({ err: error, port }, 'what the router announces cannot be heard');
      }
    });
    this.sockets.push(socket);
  }

  /** At once, or when so long has passed since the last time: what is announced last counts. */
  private look(): void {
    if (this.again) return;
    const wait = Math.max(0, this.lookedAt + LOOK_MS - this.clock.now());
    this.again = setTimeout(() => {
      this.again = null;
      this.lookedAt = this.clock.now();
      aside(this.upkeep.round(), 'what the router announced could not be looked at');
    }, wait);
  }
}
