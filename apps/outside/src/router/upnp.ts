import type { MapProtocol } from './codec.js';

/** UPnP Internet Gateway Device, WANIPConnection:1 (UPnP Forum, 2001): descriptions and actions over HTTP. */
export const SERVICE = 'urn:schemas-upnp-org:service:WANIPConnection:1';

export type UpnpAction =
  | { name: 'GetExternalIPAddress' | 'GetStatusInfo' | 'GetConnectionTypeInfo' }
  | {
      name: 'AddPortMapping';
      protocol: MapProtocol;
      externalPort: number;
      internalPort: number;
      internalAddress: string;
      leaseSeconds: number;
      description: string;
    }
  | { name: 'DeletePortMapping' | 'GetSpecificPortMappingEntry'; protocol: MapProtocol; externalPort: number }
  | { name: 'GetGenericPortMappingEntry'; index: number };

/** The error codes of the service's template, §2.5. */
export const UPNP_ERROR = {
  'invalid-action': [401, 'Invalid Action'],
  'invalid-args': [402, 'Invalid Args'],
  'no-such-entry': [714, 'NoSuchEntryInArray'],
  'out-of-range': [713, 'SpecifiedArrayIndexInvalid'],
  conflict: [718, 'ConflictInMappingEntry'],
  'permanent-only': [725, 'OnlyPermanentLeasesSupported'],
} as const;

export function rootDescription(udn: string): string {
  const device = (type: string, name: string, inner: string) =>
    `<device><deviceType>urn:schemas-upnp-org:device:${type}:1</deviceType><friendlyName>${name}</friendlyName><manufacturer>Outside world</manufacturer><modelName>Router</modelName><UDN>uuid:${udn}-${type}</UDN>${inner}</device>`;
  const wan = `<serviceList><service><serviceType>${SERVICE}</serviceType><serviceId>urn:upnp-org:serviceId:WANIPConn1</serviceId><SCPDURL>/wanip.xml</SCPDURL><controlURL>/control</controlURL><eventSubURL>/events</eventSubURL></service></serviceList>`;
  return `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><specVersion><major>1</major><minor>0</minor></specVersion>${device('InternetGatewayDevice', 'Office router', `<deviceList>${device('WANDevice', 'WAN', `<deviceList>${device('WANConnectionDevice', 'Line', wan)}</deviceList>`)}</deviceList>`)}</root>`;
}

/** Reads a SOAP request; null when it is none that is known. */
export function decodeAction(soapAction: string, body: string): UpnpAction | null {
  const name = /#(\w+)"?$/.exec(soapAction)?.[1];
  const arg = (key: string) => decodeXml(new RegExp(`<${key}(?:\\s[^>]*)?>([^<]*)</${key}>`).exec(body)?.[1] ?? '');
  const protocol = arg('NewProtocol').toLowerCase() === 'udp' ? 'udp' : 'tcp';
  switch (name) {
    case 'GetExternalIPAddress':
    case 'GetStatusInfo':
    case 'GetConnectionTypeInfo':
      return { name };
    case 'AddPortMapping':
      return {
        name,
        protocol,
        externalPort: Number(arg('NewExternalPort')),
        internalPort: Number(arg('NewInternalPort')),
        internalAddress: arg('NewInternalClient'),
        leaseSeconds: Number(arg('NewLeaseDuration') || 0),
        description: arg('NewPortMappingDescription'),
      };
    case 'DeletePortMapping':
    case 'GetSpecificPortMappingEntry':
      return { name, protocol, externalPort: Number(arg('NewExternalPort')) };
    case 'GetGenericPortMappingEntry':
      return { name, index: Number(arg('NewPortMappingIndex')) };
    default:
      return null;
  }
}

/** The answer to a search for gateways (UPnP Device Architecture 1.1 §1.3.3); null for what is none. */
export function searchAnswer(bytes: Buffer, location: string): Buffer | null {
  const text = bytes.toString('latin1');
  const target = /^ST:\s*(\S+)\s*$/im.exec(text)?.[1] ?? '';
  if (
    !text.startsWith('M-SEARCH * HTTP/1.1') ||
    !/^MAN:\s*"ssdp:discover"/im.test(text) ||
    !/InternetGatewayDevice:|WANIPConnection:|ssdp:all|upnp:rootdevice/.test(target)
  )
    return null;
  return Buffer.from(
    [
      'HTTP/1.1 200 OK',
      'CACHE-CONTROL: max-age=120',
      'EXT:',
      `LOCATION: ${location}`,
      'SERVER: Outside/1 UPnP/1.1 Router/1',
      `ST: ${target}`,
      `USN: uuid:6d61-70::${target}`,
      '',
      '',
    ].join('\r\n'),
  );
}

export function encodeAnswer(action: string, values: Record<string, string | number>): string {
  const body = Object.entries(values)
    .map(([key, value]) => `<${key}>${encodeXml(String(value))}</${key}>`)
    .join('');
  return envelope(`<u:${action}Response xmlns:u="${SERVICE}">${body}</u:${action}Response>`);
}

export function encodeFault([code, words]: readonly [number, string]): string {
  return envelope(
    `<s:Fault><faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring><detail><UPnPError xmlns="urn:schemas-upnp-org:control-1-0"><errorCode>${code}</errorCode><errorDescription>${words}</errorDescription></UPnPError></detail></s:Fault>`,
  );
}

function envelope(inner: string): string {
  return `<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body>${inner}</s:Body></s:Envelope>`;
}

const encodeXml = (text: string): string => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);
const decodeXml = (text: string): string =>
  text.replace(/&(?:#(\d+)|lt|gt|quot|apos|amp);/g, (whole, code: string | undefined) =>
    code
      ? String.fromCodePoint(Number(code))
      : ({ '&lt;': '<', '&gt;': '>', '&quot;': '"', '&apos;': "'", '&amp;': '&' }[whole] ?? ''),
  );
