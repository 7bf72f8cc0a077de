import fc from 'fast-check';
import { BlockList, isIP } from 'node:net';
import { describe, expect, it } from 'vitest';
import { addressBytes, addressScope, isSameAddress, lineAddress, specialBlock } from './special.js';

describe('special-purpose addresses', () => {
  // The first and last addresses of blocks, and their neighbours, from the RFCs that are named.
  it.each([
    ['9.255.255.255', 'public'],
    ['10.0.0.0', 'private'],
    ['10.255.255.255', 'private'],
    ['11.0.0.0', 'public'],
    ['172.15.255.255', 'public'],
    ['172.16.0.0', 'private'],
    ['172.31.255.255', 'private'],
    ['172.32.0.0', 'public'],
    ['100.63.255.255', 'public'],
    ['100.64.0.0', 'shared'],
    ['100.127.255.255', 'shared'],
    ['100.128.0.0', 'public'],
    ['169.254.1.1', 'link-local'],
    ['127.0.0.1', 'loopback'],
    ['198.51.100.24', 'documentation'],
    ['203.0.113.7', 'documentation'],
    ['198.17.255.255', 'public'],
    ['198.18.0.0', 'other'],
    ['198.19.255.255', 'other'],
    ['198.20.0.0', 'public'],
    ['224.0.0.1', 'other'],
    ['255.255.255.255', 'other'],
    ['::1', 'loopback'],
    ['::', 'other'],
    ['fc00::1', 'private'],
    ['fdff::1', 'private'],
    ['fe00::1', 'public'],
    ['fe80::1', 'link-local'],
    ['febf::1', 'link-local'],
    ['2001:db8::5', 'documentation'],
    ['2606:4700::1', 'public'],
    ['::ffff:192.0.2.1', 'other'],
  ] as const)('%s is %s', (address, scope) => expect(addressScope(address)).toBe(scope));
  it('names the block and its source', () =>
    expect(specialBlock('100.64.3.4')).toEqual({ scope: 'shared', name: 'Shared Address Space', source: 'RFC 6598' }));
  it('agrees with Node.js on what an address is', () => {
    const part = fc.oneof(
      fc.integer({ min: 0, max: 300 }).map(String),
      fc.constantFrom('', '01', 'ff', 'fe80', '12345', 'g'),
    );
    fc.assert(
      fc.property(
        fc.oneof(
          fc.array(part, { minLength: 3, maxLength: 5 }).map((p) => p.join('.')),
          fc.array(part, { minLength: 2, maxLength: 9 }).map((p) => p.join(':')),
          fc.ipV4(),
          fc.ipV6(),
        ),
        (text) => void expect(addressBytes(text) !== null).toBe(isIP(text) !== 0),
      ),
    );
  });
  it("agrees with Node.js's block list on every address of the private blocks' edges", () => {
    const list = new BlockList();
    for (const [prefix, bits] of [
      ['10.0.0.0', 8],
      ['172.16.0.0', 12],
      ['192.168.0.0', 16],
    ] as const)
      list.addSubnet(prefix, bits);
    fc.assert(
      fc.property(fc.ipV4(), (address) => void expect(addressScope(address) === 'private').toBe(list.check(address))),
    );
  });
});

describe('addresses', () => {
  // RFC 5952 §2: ways to write one address.
  it.each([
    ['2001:db8::1', '2001:DB8:0:0:0:0:0:1', true],
    ['2001:db8:0:0:1::1', '2001:db8::1:0:0:1', true],
    ['::ffff:203.0.113.7', '203.0.113.7', false],
    ['203.0.113.7', '203.0.113.7', true],
    ['203.0.113.7', '203.0.113.70', false],
    ['files.saltmarsh.example', 'files.saltmarsh.example', false],
  ])('%s and %s are one: %s', (one, other, same) => expect(isSameAddress(one, other)).toBe(same));
  it('of a line are what the world sees, else what the router says, if the world can use it', () => {
    expect(lineAddress({ seenAddress: '203.0.113.7', routerAddress: '192.168.1.2' })).toBe('203.0.113.7');
    expect(lineAddress({ seenAddress: null, routerAddress: '203.0.113.7' })).toBe('203.0.113.7');
    // Behind another router, or an address that a provider shares out (RFC 6598).
    for (const routerAddress of ['192.168.1.2', '100.64.0.9', null])
      expect(lineAddress({ seenAddress: null, routerAddress })).toBeNull();
  });
});
