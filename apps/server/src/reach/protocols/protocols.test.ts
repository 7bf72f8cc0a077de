import { spawn, type ChildProcess } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { execFileSync } from 'node:child_process';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Dialler } from '../../platform/dialler.js';
import { readMeasured } from '../measured.js';
import { decodeUpdateAnswer, encodeUpdate, type RecordChange, type TsigKey } from './dns-update.js';
import { decodeDescription, decodeNews, decodeSearchAnswer, encodeAction, valueOf } from './gateway-device.js';
import {
  decodePcpMap,
  decodePmpAddress,
  decodePmpMap,
  encodePcpMap,
  encodePmpAddress,
  encodePmpMap,
} from './port-control.js';
import { decodeBinding, encodeBinding } from './stun.js';

const hex = (text: string): Buffer => Buffer.from(text.replace(/\s/g, ''), 'hex');

describe('STUN: the sample answers of RFC 5769 (taken down from memory; the addresses in them are what counts)', () => {
  const transaction = hex('b7e7a701bc34d686fa87dfae');
  it('§2.2, over IPv4: 192.0.2.1', () => {
    const answer =
      hex(`0101003c 2112a442 b7e7a701bc34d686fa87dfae 8022000b 7465737420766563746f7220 00200008 0001a147e112a643
      00080014 2b91f599fd9e90c38c7489f92af9ba53f06be7d7 80280004 c07d4c96`);
    expect(decodeBinding(answer, transaction)).toBe('192.0.2.1');
    expect(decodeBinding(answer, Buffer.alloc(12))).toBeNull();
    expect(decodeBinding(answer.subarray(0, 40), transaction)).toBeNull();
  });
  it('§2.3, over IPv6: 2001:db8:1234:5678:11:2233:4455:6677', () => {
    const answer =
      hex(`01010048 2112a442 b7e7a701bc34d686fa87dfae 8022000b 7465737420766563746f7220 00200014 0002a147 0113a9faa5d3f179bc25f4b5bed2b9d9
      00080014 a382954e4be67bf11784c97c8292c275bfe3ed41 80280004 c8fb0b4c`);
    expect(decodeBinding(answer, transaction)).toBe('2001:db8:1234:5678:11:2233:4455:6677');
  });
  it('a request is a header of 20 bytes (RFC 8489 §5)', () =>
    expect(encodeBinding(transaction).equals(hex('00010000 2112a442 b7e7a701bc34d686fa87dfae'))).toBe(true));
});

describe('NAT-PMP: the figures of RFC 6886', () => {
  it('§3.2: asks for the address with two bytes, and reads it', () => {
    expect(encodePmpAddress().equals(hex('0000'))).toBe(true);
    expect(decodePmpAddress(hex('0080 0000 00000e10 c6336418'))).toEqual({ address: '198.51.100.24', epoch: 3600 });
    expect(decodePmpAddress(hex('0080 0003 00000e10 00000000'))).toEqual({ refused: 'it is not connected' });
    expect(decodePmpAddress(hex('0080 0001 00000e10'))).toEqual({ refused: 'it speaks another version' });
  });
  it('§3.3: asks for a mapping, and takes the answer for its own port only', () => {
    const ask = { internalPort: 8443, externalPort: 443, lifetimeSeconds: 7200 };
    expect(encodePmpMap(ask).equals(hex('0002 0000 20fb 01bb 00001c20'))).toBe(true);
    expect(decodePmpMap(hex('0082 0000 00000e10 20fb 01bb 00001c20'), ask)).toEqual({
      outcome: 'granted',
      externalPort: 443,
      externalAddress: null,
      lifetimeSeconds: 7200,
      epoch: 3600,
    });
    expect(decodePmpMap(hex('0082 0000 00000e10 20fc 01bb 00001c20'), ask)).toBeNull();
    expect(decodePmpMap(hex('0082 0002 00000e10 20fb 0000 00000000'), ask)).toMatchObject({
      outcome: 'refused',
      code: 2,
    });
  });
});

describe('PCP: the figures of RFC 6887', () => {
  const ask = { internalPort: 8443, externalPort: 443, lifetimeSeconds: 7200 };
  const nonce = hex('000102030405060708090a0b');
  const request = hex(
    '02010000 00001c20 00000000000000000000ffff c0a8140a 000102030405060708090a0b 06000000 20fb01bb 00000000000000000000ffff 00000000',
  );
  const answer = hex(
    '02810000 00001c20 00000e10 000000000000000000000000 000102030405060708090a0b 06000000 20fb01bb 00000000000000000000ffff c6336418',
  );
  it('§7.1 and §11.1: a MAP request, byte for byte', () =>
    expect(encodePcpMap(ask, '192.168.20.10', nonce).equals(request)).toBe(true));
  it('§7.2 and §11.1: its answer; one with another nonce is none', () => {
    expect(decodePcpMap(answer, ask, nonce)).toEqual({
      outcome: 'granted',
      externalPort: 443,
      externalAddress: '198.51.100.24',
      lifetimeSeconds: 7200,
      epoch: 3600,
    });
    expect(decodePcpMap(answer, ask, hex('ff0102030405060708090a0b'))).toBeNull();
    const refused = Buffer.from(answer);
    refused[3] = 12;
    expect(decodePcpMap(refused, ask, nonce)).toMatchObject({ outcome: 'refused', code: 12 });
  });
  it('§5 and §11.1: over IPv6 the address is the machine’s own, and no suggestion is ::', () =>
    expect(
      encodePcpMap({ ...ask, internalPort: 443 }, '2001:db8:20::10', nonce).equals(
        hex(
          '02010000 00001c20 20010db8002000000000000000000010 000102030405060708090a0b 06000000 01bb01bb 00000000000000000000000000000000',
        ),
      ),
    ).toBe(true));
  it('§9: a server that speaks NAT-PMP only, or another version, is told apart', () => {
    expect(decodePcpMap(hex('0000 0001 00000e10'), ask, nonce)).toBe('other-version');
    expect(decodePcpMap(hex('02810001 00000000 00000e10 000000000000000000000000'), ask, nonce)).toBe('other-version');
  });
});

describe('the gateway device', () => {
  it('is found by its answer to a search (UPnP Device Architecture 1.1 §1.3.3), wherever the lines stand', () => {
    expect(
      decodeSearchAnswer(
        Buffer.from(
          'HTTP/1.1 200 OK\r\nST: upnp:rootdevice\r\nLocation: http://192.168.20.1:5000/rootDesc.xml\r\n\r\n',
        ),
      ),
    ).toBe('http://192.168.20.1:5000/rootDesc.xml');
    for (const bad of [
      'NOTIFY * HTTP/1.1\r\nLOCATION: http://192.168.20.1/\r\n\r\n',
      'HTTP/1.1 200 OK\r\nLOCATION: file:///etc/passwd\r\n\r\n',
      'HTTP/1.1 404\r\n\r\n',
    ])
      expect(decodeSearchAnswer(Buffer.from(bad))).toBeNull();
  });
  it('is heard when it begins anew (UPnP Device Architecture 1.1 §1.2.2)', () => {
    const said = (nt: string, nts: string) =>
      decodeNews(Buffer.from(`NOTIFY * HTTP/1.1\r\nHOST:239.255.255.250:1900\r\nNT: ${nt}\r\nNTS: ${nts}\r\n\r\n`));
    const gateway = 'urn:schemas-upnp-org:device:InternetGatewayDevice:2';
    expect([said(gateway, 'ssdp:alive'), said(gateway, 'ssdp:update')]).toEqual([true, true]);
    expect([said(gateway, 'ssdp:byebye'), said('upnp:rootdevice', 'ssdp:alive'), decodeNews(Buffer.alloc(0))]).toEqual([
      ...[false, false, false],
    ]);
  });
  it('says where it takes actions, relative to its own place', () => {
    const xml =
      '<root><service><serviceType>urn:schemas-upnp-org:service:Layer3Forwarding:1</serviceType><controlURL>/l3</controlURL></service><service><serviceType>urn:schemas-upnp-org:service:WANIPConnection:2</serviceType><controlURL>/ctl/IPConn</controlURL></service></root>';
    const line = {
      controlUrl: 'http://192.168.20.1:5000/ctl/IPConn',
      service: 'urn:schemas-upnp-org:service:WANIPConnection:2',
    };
    expect(decodeDescription(xml, 'http://192.168.20.1:5000/rootDesc.xml')).toEqual({ line, firewall: null });
    const service = 'urn:schemas-upnp-org:service:WANIPv6FirewallControl:1';
    const more = `<service><serviceType>${service}</serviceType><controlURL>/ctl/IP6FCtl</controlURL></service></root>`;
    expect(decodeDescription(xml.replace('</root>', more), 'http://192.168.20.1:5000/rootDesc.xml')).toEqual({
      line,
      firewall: { controlUrl: 'http://192.168.20.1:5000/ctl/IP6FCtl', service },
    });
    expect(decodeDescription('<root/>', 'http://192.168.20.1/')).toBeNull();
  });
  it('is asked with values escaped, and read', () => {
    expect(encodeAction('urn:x:1', 'Do', { A: '<&>' })).toContain('<A>&#60;&#38;&#62;</A>');
    expect(
      valueOf('<u:R><NewExternalIPAddress>198.51.100.24</NewExternalIPAddress></u:R>', 'NewExternalIPAddress'),
    ).toBe('198.51.100.24');
    expect(valueOf('<a/>', 'NewExternalIPAddress')).toBeNull();
  });
});

describe('garbage', () => {
  const bytes = fc.uint8Array({ maxLength: 700 }).map((b) => Buffer.from(b));
  const ask = { internalPort: 1, externalPort: 1, lifetimeSeconds: 1 };
  const key: TsigKey = { name: 'k', secret: Buffer.alloc(32) };
  it('is told apart by every decoder without an exception, whatever is cut off, too long or forged', () => {
    fc.assert(
      fc.property(bytes, (b) => {
        expect(decodeBinding(b, Buffer.alloc(12))).toBeNull();
        expect(['other-version', null, 'refused']).toContain(
          ((r) => (r && typeof r === 'object' ? r.outcome : r))(decodePcpMap(b, ask, Buffer.alloc(12, 7))),
        );
        decodePmpAddress(b);
        decodePmpMap(b, ask);
        decodeSearchAnswer(b);
        decodeDescription(b.toString('latin1'), 'http://192.168.20.1/');
        expect(readMeasured(b.toString('latin1'))).toBeNull();
        expect(decodeUpdateAnswer(b, 1, Buffer.alloc(32), key, 0)?.outcome).not.toBe('done');
      }),
      { numRuns: 2000 },
    );
  });
  it('a good answer with any one byte changed is never taken for a signed one', () => {
    const { bytes: sent, id, mac } = encodeUpdate('a.example', [], key, 1000, 77);
    const answer = Buffer.from(sent);
    answer.writeUInt16BE(0xa800, 2);
    // This is our own request's signature, not one over the request: never good, changed or not.
    fc.assert(
      fc.property(fc.nat(answer.length - 1), fc.integer({ min: 1, max: 255 }), (at, change) => {
        const forged = Buffer.from(answer);
        forged[at] = (forged[at] as number) ^ change;
        expect(decodeUpdateAnswer(forged, id, mac, key, 1000)?.outcome).not.toBe('done');
      }),
    );
  });
});

describe('updates are taken by BIND 9 (Debian bind9)', () => {
  const key: TsigKey = { name: 'quay-update', secret: Buffer.from('a secret of thirty-two bytes....') };
  let folder = '';
  let named: ChildProcess;
  let port = 0;
  const dig = (name: string, type: string): string =>
    execFileSync('dig', ['@127.0.0.1', '-p', String(port), '+short', '+tries=1', '+time=2', name, type], {
      encoding: 'utf8',
    }).trim();
  const seconds = () => Math.floor(Date.now() / 1000);
  const update = async (changes: RecordChange[], by: TsigKey = key, zone = 'saltmarsh.example', at = seconds()) => {
    const { bytes, id, mac } = encodeUpdate(zone, changes, by, at);
    return new Dialler(null).exchange('127.0.0.1', port, bytes, (b) => decodeUpdateAnswer(b, id, mac, by, at), [1500]);
  };
  beforeAll(async () => {
    folder = mkdtempSync(join(tmpdir(), 'named-'));
    port = await new Promise<number>((resolve) => {
      const probe = createServer().listen(0, '127.0.0.1', () => {
        const { port: free } = probe.address() as AddressInfo;
        probe.close(() => resolve(free));
      });
    });
    writeFileSync(
      join(folder, 'zone'),
      '$TTL 300\n@ SOA ns1 hostmaster 1 3600 600 604800 60\n@ NS ns1\nns1 A 127.0.0.1\nfiles A 198.51.100.24\n',
    );
    writeFileSync(
      join(folder, 'named.conf'),
      `key quay-update { algorithm hmac-sha256; secret "${key.secret.toString('base64')}"; };
      options { directory "${folder}"; listen-on port ${port} { 127.0.0.1; }; listen-on-v6 { none; }; pid-file none; recursion no; session-keyfile none; };
      controls { };
      zone "saltmarsh.example" { type primary; file "${folder}/zone"; allow-update { key quay-update; }; };`,
    );
    named = spawn(
      existsSync('/usr/sbin/named') ? '/usr/sbin/named' : 'named',
      ['-g', '-c', join(folder, 'named.conf')],
      { stdio: 'ignore' },
    );
    for (let n = 0; n < 60; n += 1) {
      if (
        ((): string => {
          try {
            return dig('files.saltmarsh.example', 'A');
          } catch {
            return '';
          }
        })() === '198.51.100.24'
      )
        break;
      await new Promise((r) => setTimeout(r, 150));
    }
  });
  afterAll(async () => {
    const gone = new Promise((r) => named.once('exit', r));
    named.kill();
    await gone;
    rmSync(folder, { recursive: true, force: true });
  });

  it('A, AAAA and long TXT records are set, changed and removed; its signed answers hold', async () => {
    const name = 'files.saltmarsh.example';
    expect(
      await update([
        { name, type: 'A', value: '198.51.100.77', ttlSeconds: 300 },
        { name, type: 'AAAA', value: '2001:db8::24', ttlSeconds: 300 },
      ]),
    ).toEqual({ outcome: 'done' });
    expect([dig(name, 'A'), dig(name, 'AAAA')]).toEqual(['198.51.100.77', '2001:db8::24']);
    const text = 'x'.repeat(300);
    expect(await update([{ name: `_acme-challenge.${name}`, type: 'TXT', value: text, ttlSeconds: 60 }])).toEqual({
      outcome: 'done',
    });
    expect(dig(`_acme-challenge.${name}`, 'TXT').replace(/["\s]/g, '')).toBe(text);
    expect(await update([{ name: `_acme-challenge.${name}`, type: 'TXT', value: null, ttlSeconds: 0 }])).toEqual({
      outcome: 'done',
    });
    expect(dig(`_acme-challenge.${name}`, 'TXT')).toBe('');
  });
  it('a wrong key, an unknown key, another zone and another time are refused by name', async () => {
    const change: RecordChange[] = [
      { name: 'files.saltmarsh.example', type: 'A', value: '203.0.113.9', ttlSeconds: 60 },
    ];
    expect(await update(change, { ...key, secret: Buffer.alloc(32) })).toEqual({ outcome: 'refused', code: 'BADSIG' });
    expect(await update(change, { ...key, name: 'nobody' })).toEqual({ outcome: 'refused', code: 'BADKEY' });
    expect(
      await update([{ ...(change[0] as RecordChange), name: 'files.other.example' }], key, 'other.example'),
    ).toMatchObject({ outcome: 'refused', code: 'NOTAUTH' });
    expect(await update(change, key, 'saltmarsh.example', seconds() - 4000)).toMatchObject({
      outcome: 'refused',
      code: 'BADTIME',
    });
    expect(dig('files.saltmarsh.example', 'A')).toBe('198.51.100.77');
  });
});
