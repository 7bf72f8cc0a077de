import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { addressText, parseShareLink, portabilityFault, shareLink } from './link.js';

const token = 'AbCdEfGhIjKlMnOpQrStUv';

describe('links', () => {
  // RFC 3986 §6.2.3: the port is left out when it is the scheme's default.
  it.each([
    [
      { scheme: 'https', host: 'Files.Saltmarsh.example', port: 443, pathPrefix: '' },
      'https://files.saltmarsh.example',
    ],
    [
      { scheme: 'http', host: 'files.saltmarsh.example', port: 80, pathPrefix: '/quay' },
      'http://files.saltmarsh.example/quay',
    ],
    [
      { scheme: 'https', host: 'files.saltmarsh.example', port: 8443, pathPrefix: '' },
      'https://files.saltmarsh.example:8443',
    ],
    [{ scheme: 'https', host: '2001:db8::7', port: null, pathPrefix: '' }, 'https://[2001:db8::7]'],
  ] as const)('%j is written %s', (address, text) => expect(addressText(address)).toBe(text));

  it('are read back by the same module', () => {
    const address = fc.record({
      scheme: fc.constantFrom('http' as const, 'https' as const),
      host: fc.constantFrom('a.example', '192.0.2.1', '2001:db8::1'),
      port: fc.option(fc.integer({ min: 1, max: 65_535 }).filter((p) => p !== 80 && p !== 443)),
      pathPrefix: fc.constantFrom('', '/quay', '/a/b'),
    });
    fc.assert(
      fc.property(address, (a) => void expect(parseShareLink(shareLink(a, token))).toEqual({ address: a, token })),
    );
  });
  it('agree with the URL standard', () => {
    const url = new URL(
      shareLink({ scheme: 'https', host: 'files.saltmarsh.example', port: null, pathPrefix: '' }, token),
    );
    expect([url.hostname, url.port, url.pathname]).toEqual(['files.saltmarsh.example', '', `/s/${token}`]);
  });
  it.each([
    '',
    'https://a.example/',
    'https://a.example/s/short',
    `ftp://a.example/s/${token}`,
    `https://a.example:99999/s/${token}`,
    `https://a.example/s/${token}/files`,
  ])('%j is none', (text) => expect(parseShareLink(text)).toBeNull());
});

describe('what works outside', () => {
  // RFC 1918 §3, RFC 3927 §2.1, RFC 6598 §7, RFC 1122 §3.2.1.3, RFC 4193 §3.1, RFC 4291 §2.5.6: first and last addresses.
  it.each([
    '10.0.0.0',
    '10.255.255.255',
    '172.16.0.0',
    '172.31.255.255',
    '192.168.0.0',
    '192.168.255.255',
    '169.254.1.1',
    '100.64.0.0',
    '100.127.255.255',
    '127.0.0.1',
    'fd00::1',
    'fc00::1',
    'fe80::1',
    '::1',
  ])('%s does not', (host) => expect(portabilityFault(host)).toBe('private-address'));
  it.each([
    '9.255.255.255',
    '11.0.0.0',
    '172.15.255.255',
    '172.32.0.0',
    '100.63.255.255',
    '100.128.0.0',
    '203.0.113.7',
    '2001:db8::1',
    'files.saltmarsh.example',
  ])('%s does', (host) => expect(portabilityFault(host)).toBeNull());
  it.each([
    ['quay', 'single-label'],
    ['localhost', 'single-label'],
    ['quay.local', 'private-name'],
    ['quay.saltmarsh.lan', 'private-name'],
    ['nas.home.arpa', 'private-name'],
  ])('%s: %s', (host, fault) => expect(portabilityFault(host)).toBe(fault));
});
