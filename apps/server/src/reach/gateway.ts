import { Injectable } from '@nestjs/common';
import { Clock } from '../platform/clock.js';
import { Dialler } from '../platform/dialler.js';
import { OwnNetwork } from '../platform/own-network.js';
import {
  decodeDescription,
  decodeSearchAnswer,
  encodeAction,
  SSDP_ADDRESS,
  SSDP_PORT,
  SSDP_SEARCH,
  SSDP_WAIT_MS,
  type DeviceService,
} from './protocols/gateway-device.js';

const UPNP_MS = 2500;

export interface ActionAnswer {
  status: number;
  text: string;
}
type Values = Record<string, string | number>;
interface Device {
  line: DeviceService;
  firewall: DeviceService | null;
}
/** For so long nobody is searched for again who was not found: a person waits, and asks for several things at once. */
const ABSENT_MS = 10_000;

/** The router as a UPnP device: found once, asked for actions until it is not there any more. */
@Injectable()
export class Gateway {
  private device: Device | null = null;
  private searching: Promise<Device | null> | null = null;
  private absentUntil = 0;

  constructor(
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
    private readonly clock: Clock,
  ) {}

  /** An action about the line; null when there is no such device, or it does not answer. */
  async line(action: string, values: Values): Promise<ActionAnswer | null> {
    const device = await this.found();
    return device && this.ask(device.line, action, values);
  }

  /**
   * An action about the firewall for IPv6: asked over IPv6 from the address that it is about, because a router lets each
   * machine speak for itself only (WANIPv6FirewallControl:1 §2.2.1).
   */
  async firewall(action: string, values: Values, from: string): Promise<ActionAnswer | null> {
    const to = this.network.gateway6;
    const device = to ? await this.found() : null;
    return to && device?.firewall ? this.ask(device.firewall, action, values, { address: to, from }) : null;
  }

  private async found(): Promise<Device | null> {
    const { gateway } = this.network;
    if (!gateway) return null;
    // Another router may stand there by now.
    if (this.device && new URL(this.device.line.controlUrl).hostname !== gateway) this.device = null;
    if (this.device) return this.device;
    if (this.clock.now() < this.absentUntil) return null;
    this.searching ??= this.discover()
      .catch(() => null)
      .then((device) => {
        if (!device) this.absentUntil = this.clock.now() + ABSENT_MS;
        return device;
      })
      .finally(() => (this.searching = null));
    this.device = await this.searching;
    return this.device;
  }

  private async ask(
    { controlUrl, service }: DeviceService,
    action: string,
    values: Values,
    via?: { address: string; from: string },
  ): Promise<ActionAnswer | null> {
    try {
      const headers = { 'content-type': 'text/xml; charset="utf-8"', soapaction: `"${service}#${action}"` };
      const body = encodeAction(service, action, values);
      const answer = await this.dialler.http('POST', controlUrl, headers, body, UPNP_MS, 50_000, via);
      // A device that no longer knows its own address is not there any more.
      if (answer.status === 404) this.device = null;
      return answer.status === 404 ? null : answer;
    } catch {
      if (!via) this.device = null;
      return null;
    }
  }

  private async discover(): Promise<Device | null> {
    const { gateway, insideAddress } = this.network;
    // Anybody may answer. Only the router itself may send us somewhere: an answer that points elsewhere would make this
    // server ask for it.
    const isRouters = (url: string): boolean => new URL(url).hostname === gateway;
    const locations = await this.dialler.search(SSDP_ADDRESS, SSDP_PORT, SSDP_SEARCH, decodeSearchAnswer, {
      from: insideAddress,
      waitMs: SSDP_WAIT_MS,
      enough: (found) => found.some(isRouters),
    });
    for (const location of new Set(locations.filter(isRouters))) {
      const { status, text } = await this.dialler.http('GET', location, {}, null, UPNP_MS, 200_000);
      const device = status === 200 ? decodeDescription(text, location) : null;
      if (device && isRouters(device.line.controlUrl)) {
        const { line, firewall } = device;
        return { line, firewall: firewall && isRouters(firewall.controlUrl) ? firewall : null };
      }
    }
    return null;
  }
}
