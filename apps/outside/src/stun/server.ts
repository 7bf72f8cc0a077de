import { createSocket, type Socket } from 'node:dgram';
import { decodeBinding, encodeSuccess, encodeUnknown } from './codec.js';

/** A STUN responder on loopback: tells whoever asks the address that they are seen from in the simulated world. */
export class StunResponder {
  private udp: Socket | null = null;
  silent = false;

  /** @param seenAs the address that a peer on loopback stands for */
  constructor(private readonly seenAs: (peer: string) => string) {}

  async listen(host: string, port: number): Promise<number> {
    const udp = createSocket('udp4');
    udp.on('message', (bytes, from) => {
      const request = decodeBinding(bytes);
      if (!request || this.silent) return;
      const answer = request.unknown.length
        ? encodeUnknown(request.transactionId, request.unknown)
        : encodeSuccess(request.transactionId, this.seenAs(from.address), from.port);
      udp.send(answer, from.port, from.address);
    });
    await new Promise<void>((resolve, reject) => udp.once('error', reject).bind(port, host, resolve));
    this.udp = udp;
    return udp.address().port;
  }

  close(): Promise<void> {
    return new Promise((resolve) => (this.udp ? this.udp.close(() => resolve()) : resolve()));
  }
}
