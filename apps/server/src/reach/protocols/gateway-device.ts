/**
 * UPnP Internet Gateway Device, WANIPConnection (UPnP Forum, versions 1 and 2): discovery, description and actions as
 * text.
 */

export const SSDP_ADDRESS = '239.255.255.250';
export const SSDP_PORT = 1900;
/**
 * UPnP Device Architecture 1.1 §1.3.2. A device of a later version answers for those before it, too (§1.3.3).
 */
export const SSDP_SEARCH = Buffer.from(
  [
    'M-SEARCH * HTTP/1.1',
    `HOST: ${SSDP_ADDRESS}:${SSDP_PORT}`,
    'MAN: "ssdp:discover"',
    'MX: 1',
    'ST: urn:schemas-upnp-org:device:InternetGatewayDevice:1',
    '',
    '',
  ].join('\r\n'),
);
/** How long answers are waited for: a device takes up to MX, a second, to answer. */
export const SSDP_WAIT_MS = 1400;

/** Where the description of a gateway is, from its answer to a search; null for anything else. */
export function decodeSearchAnswer(bytes: Buffer): string | null {
  const text = bytes.toString('latin1', 0, 4000);
  if (!/^HTTP\/1\.[01] 200/.test(text)) return null;
  const location = /^location:\s*(\S+)\s*$/im.exec(text)?.[1];
  return location && /^http:\/\//.test(location) && URL.canParse(location) ? location : null;
}

/** Whether a gateway says that it is there, or begins anew (UPnP Device Architecture 1.1 §1.2.2). */
export function decodeNews(bytes: Buffer): boolean {
  const text = bytes.toString('latin1', 0, 4000);
  return (
    /^NOTIFY \* HTTP\/1\.[01]\r\n/.test(text) &&
    /^nts:\s*ssdp:(alive|update)\s*$/im.test(text) &&
    /^nt:\s*urn:schemas-upnp-org:device:InternetGatewayDevice:\d\s*$/im.test(text)
  );
}

/** Where a service of a device takes actions, and what it is called. */
export interface DeviceService {
  controlUrl: string;
  service: string;
}

/**
 * The services of a gateway, from its description: the line (WANIPConnection or WANPPPConnection), and the firewall for
 * IPv6 where it has one (WANIPv6FirewallControl); null when it is no gateway with a line.
 */
export function decodeDescription(
  xml: string,
  base: string,
): { line: DeviceService; firewall: DeviceService | null } | null {
  const services = [...xml.matchAll(/<service>([\s\S]*?)<\/service>/g)].flatMap(([, body = '']) => {
    const service = /<serviceType>\s*(urn:schemas-upnp-org:service:\w+:\d)\s*<\/serviceType>/.exec(body)?.[1];
    const control = /<controlURL>\s*([^<\s]+)\s*<\/controlURL>/.exec(body)?.[1];
    const isSound = service && control && URL.canParse(control, base);
    return isSound ? [{ controlUrl: new URL(control, base).href, service }] : [];
  });
  const named = (kind: RegExp) => services.find(({ service }) => kind.test(service)) ?? null;
  const line = named(/:WAN(IP|PPP)Connection:/);
  return line && { line, firewall: named(/:WANIPv6FirewallControl:/) };
}

export function encodeAction(service: string, action: string, values: Record<string, string | number>): string {
  const body = Object.entries(values)
    .map(([k, v]) => `<${k}>${String(v).replace(/[&<>]/g, (c) => `&#${c.charCodeAt(0)};`)}</${k}>`)
    .join('');
  return `<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body><u:${action} xmlns:u="${service}">${body}</u:${action}></s:Body></s:Envelope>`;
}

/** A value of an answer; null when it is not there. */
export function valueOf(xml: string, key: string): string | null {
  return new RegExp(`<${key}(?:\\s[^>]*)?>([^<]*)</${key}>`).exec(xml)?.[1]?.trim() ?? null;
}
