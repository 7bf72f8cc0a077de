import { Injectable } from '@nestjs/common';
import { Dialler } from '../platform/dialler.js';
import { Gateway } from './gateway.js';
import { OwnNetwork } from '../platform/own-network.js';
import { valueOf } from './protocols/gateway-device.js';
import {
  decodePcpAnnounce,
  decodePcpMap,
  encodePcpAnnounce,
  encodePcpMap,
  PORT_CONTROL_PORT,
  type MapAsk,
} from './protocols/port-control.js';

const WAITS_MS = [250, 500, 1000];
/** Protocol numbers of IANA. */
const TCP = 6;

/** What a firewall is asked to let in, and how it knows it from before. */
export interface PinholeAsk {
  /** The address that requests come to. */
  inside: string;
  port: number;
  /** 0 closes it. */
  lifetimeSeconds: number;
  nonce: Buffer;
  pinhole: number | null;
}

export type PinholeMade =
  | {
      outcome: 'made';
      protocol: 'pcp' | 'upnp';
      leaseSeconds: number;
      epochSeconds: number | null;
      pinhole: number | null;
    }
  | { outcome: 'refused'; words: string }
  | { outcome: 'no-protocol' };

/** The router's firewall for IPv6: lets requests in to this machine (RFC 6887 §11; WANIPv6FirewallControl:1). */
@Injectable()
export class Pinholes {
  constructor(
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
    private readonly gateway: Gateway,
  ) {}

  /** PCP first: UPnP lets machines ask only for ports from 1024 on. */
  async ask(ask: PinholeAsk): Promise<PinholeMade> {
    const to = this.network.gateway6;
    if (!to) return { outcome: 'no-protocol' };
    const { inside, port, lifetimeSeconds, nonce } = ask;
    const map: MapAsk = { internalPort: port, externalPort: port, lifetimeSeconds };
    const answer = await this.dialler.exchange(
      to,
      PORT_CONTROL_PORT,
      encodePcpMap(map, inside, nonce),
      (bytes) => decodePcpMap(bytes, map, nonce),
      WAITS_MS,
      inside,
    );
    if (!answer || answer === 'other-version') return this.askByUpnp(ask);
    if (answer.outcome === 'refused') return { outcome: 'refused', words: answer.words };
    // Nothing translates on the way, so another port would lead nowhere.
    if (answer.externalPort !== port && lifetimeSeconds > 0)
      return { outcome: 'refused', words: `it offers port ${answer.externalPort} instead` };
    return {
      outcome: 'made',
      protocol: 'pcp',
      leaseSeconds: answer.lifetimeSeconds,
      epochSeconds: answer.epoch,
      pinhole: null,
    };
  }

  private async askByUpnp({ inside, port, lifetimeSeconds, pinhole }: PinholeAsk): Promise<PinholeMade> {
    if (lifetimeSeconds === 0) {
      if (pinhole !== null) await this.gateway.firewall('DeletePinhole', { UniqueID: pinhole }, inside);
      return { outcome: 'made', protocol: 'upnp', leaseSeconds: 0, epochSeconds: null, pinhole: null };
    }
    // Asked for once more, it is the same one with a new lease.
    const answer = await this.gateway.firewall(
      'AddPinhole',
      {
        RemoteHost: '',
        RemotePort: 0,
        InternalClient: inside,
        InternalPort: port,
        Protocol: TCP,
        LeaseTime: lifetimeSeconds,
      },
      inside,
    );
    if (!answer) return { outcome: 'no-protocol' };
    const id = Number(valueOf(answer.text, 'UniqueID') ?? NaN);
    if (answer.status === 200 && Number.isInteger(id))
      return { outcome: 'made', protocol: 'upnp', leaseSeconds: lifetimeSeconds, epochSeconds: null, pinhole: id };
    const code = valueOf(answer.text, 'errorCode');
    // Some let nobody ask for the ports below 1024 (WANIPv6FirewallControl:1 §2.2.1).
    if (code === '606' && port < 1024)
      return { outcome: 'refused', words: 'by UPnP it lets machines ask only for ports from 1024 on' };
    return { outcome: 'refused', words: valueOf(answer.text, 'errorDescription') || `error ${code ?? answer.status}` };
  }

  /** How long the router has known what it lets in (PCP), in seconds; null: it does not say. */
  async ageSeconds(): Promise<number | null> {
    const { gateway6, insideAddress6 } = this.network;
    if (!gateway6 || !insideAddress6) return null;
    const ask = encodePcpAnnounce(insideAddress6);
    return this.dialler.exchange(gateway6, PORT_CONTROL_PORT, ask, decodePcpAnnounce, WAITS_MS, insideAddress6);
  }

  /** Whether the router still knows what UPnP made; null: it does not say. */
  async knows({ inside, pinhole }: { inside: string; pinhole: number | null }): Promise<boolean | null> {
    const answer = await this.gateway.firewall('GetPinholePackets', { UniqueID: pinhole ?? 0 }, inside);
    if (!answer) return null;
    if (answer.status === 200) return true;
    // §2.2: 704 NoSuchEntry; miniupnpd says 402 of a number that it does not know.
    return ['704', '402'].includes(valueOf(answer.text, 'errorCode') ?? '') ? false : null;
  }
}
