import { createSocket } from 'node:dgram';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { decodeBinding, encodeSuccess } from './codec.js';
import { StunResponder } from './server.js';

let responder: StunResponder;
let port = 0;
beforeAll(async () => {
  responder = new StunResponder(() => '198.51.100.24');
  port = await responder.listen('127.0.0.1', 0);
});
afterAll(() => responder.close());

const ask = (bytes: Buffer) =>
  new Promise<Buffer | null>((resolve) => {
    const udp = createSocket('udp4');
    const timer = setTimeout(() => udp.close(() => resolve(null)), 400);
    udp.once('message', (answer) => {
      clearTimeout(timer);
      udp.close(() => resolve(answer));
    });
    udp.send(bytes, port, '127.0.0.1');
  });

describe('the STUN responder', () => {
  // RFC 5769 §2.2, the sample IPv4 response: XOR-MAPPED-ADDRESS of 192.0.2.1 port 32853 with its transaction id.
  it('writes addresses as the test vectors do', () => {
    const answer = encodeSuccess(Buffer.from('b7e7a701bc34d686fa87dfae', 'hex'), '192.0.2.1', 32_853);
    expect(answer.toString('hex')).toContain('002000080001a147e112a643');
    expect(answer.subarray(4, 20).toString('hex')).toBe('2112a442b7e7a701bc34d686fa87dfae');
  });
  it('answers a request, refuses what it must understand and does not (420), and passes everything else over', async () => {
    const id = Buffer.from('0102030405060708090a0b0c', 'hex');
    const request = (attributes: Buffer) =>
      Buffer.concat([Buffer.from([0, 1, 0, attributes.length]), Buffer.from('2112a442', 'hex'), id, attributes]);
    expect((await ask(request(Buffer.alloc(0))))?.subarray(0, 2).toString('hex')).toBe('0101');
    expect((await ask(request(Buffer.from('7fff000400000000', 'hex'))))?.toString('latin1')).toContain(
      'Unknown Attribute',
    );
    expect((await ask(request(Buffer.from('8fff000400000000', 'hex'))))?.subarray(0, 2).toString('hex')).toBe('0101');
    expect(await ask(Buffer.from('hello'))).toBeNull();
  });
  it('hostile bytes are passed over', () =>
    fc.assert(fc.property(fc.uint8Array({ maxLength: 60 }), (bytes) => void decodeBinding(Buffer.from(bytes)))));
});
