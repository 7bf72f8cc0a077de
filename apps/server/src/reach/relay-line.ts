import { createHmac } from 'node:crypto';
import type { Socket } from 'node:net';
import type { Dialler } from '../platform/dialler.js';
import { aside } from '../platform/aside.js';
import { log } from '../platform/log/log.js';

export interface RelayConfig {
  address: string;
  port: number;
  key: string;
}

const CONNECT_MS = 5000;
const SILENT_MS = 60_000;
const AGAIN_FIRST_MS = 500;
const AGAIN_MOST_MS = 60_000;
/** Visitors whose connection is being fetched at the same moment; a relay that asks for more is not believed. */
const CALLS_MOST = 200;

/**
 * The line that this server keeps to a relay for one name: outwards, so that no port is opened. For each visitor the
 * relay calls; a new connection is made for them and handed to the door, where their TLS ends. The relay sees only
 * what is encrypted. What is said on the line is told in docs/relay.md.
 */
export class RelayLine {
  private socket: Socket | null = null;
  private stopped = false;
  private again = AGAIN_FIRST_MS;
  private timer: NodeJS.Timeout | null = null;
  private fetching = 0;
  /** Why there is no line; null while it stands. */
  trouble: string | null = 'not connected yet';

  constructor(
    readonly host: string,
    private readonly relay: RelayConfig,
    private readonly dialler: Dialler,
    private readonly enter: (socket: Socket, from: string) => void,
  ) {
    this.keepAside();
  }

  stop(): void {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    this.socket?.destroy();
  }

  private keepAside(): void {
    aside(this.keep(), 'the line to the relay could not be made');
  }

  private async keep(): Promise<void> {
    try {
      const socket = await this.dialler.connect(this.relay.address, this.relay.port, CONNECT_MS);
      if (this.stopped) return void socket.destroy();
      this.socket = socket;
      socket.setTimeout(SILENT_MS, () => socket.destroy(new Error('the relay has fallen silent')));
      socket.on('error', (error) => (this.trouble = error.message));
      socket.once('close', () => this.lost());
      eachLine(socket, (message) => this.heard(socket, message));
    } catch (error) {
      this.trouble = (error as Error).message;
      this.lost();
    }
  }

  private heard(socket: Socket, message: Record<string, unknown>): void {
    if (typeof message['challenge'] === 'string')
      socket.write(`${JSON.stringify({ host: this.host, proof: this.proof(message['challenge'] + this.host) })}\n`);
    else if (message['ok'] === true) {
      this.trouble = null;
      this.again = AGAIN_FIRST_MS;
    } else if (typeof message['refused'] === 'string')
      this.trouble = `The relay refuses: ${message['refused'].slice(0, 200)}`;
    else if (message['ping'] !== undefined) socket.write('{"pong":1}\n');
    else if (typeof message['call'] === 'string' && this.fetching < CALLS_MOST)
      aside(
        this.fetch(message['call'], String(message['from'] ?? '')),
        'a visitor could not be fetched from the relay',
      );
  }

  private async fetch(call: string, from: string): Promise<void> {
    this.fetching += 1;
    try {
      const socket = await this.dialler.connect(this.relay.address, this.relay.port, CONNECT_MS);
      socket.on('error', () => socket.destroy());
      socket.setNoDelay(true);
      // Whatever the relay leaves out, the connection is used within this time or ends.
      const late = setTimeout(() => socket.destroy(), CONNECT_MS).unref();
      socket.once('close', () => clearTimeout(late));
      eachLine(socket, (message, rest) => {
        if (typeof message['challenge'] !== 'string') return void socket.destroy();
        clearTimeout(late);
        socket.removeAllListeners('data');
        socket.pause();
        socket.write(`${JSON.stringify({ answer: call, proof: this.proof(call.split(' ')[0] ?? '') })}\n`);
        if (rest.length) socket.unshift(rest);
        this.enter(socket, /^[0-9a-f.:]{2,45}$/i.test(from) ? from : this.relay.address);
      });
    } catch (error) {
      log.warn({ err: error }, 'a visitor could not be fetched from the relay');
    } finally {
      this.fetching -= 1;
    }
  }

  private lost(): void {
    this.socket = null;
    this.trouble ??= 'the relay hung up';
    if (this.stopped) return;
    this.timer = setTimeout(() => this.keepAside(), this.again);
    this.timer.unref();
    this.again = Math.min(AGAIN_MOST_MS, this.again * 2);
  }

  private proof(text: string): string {
    return createHmac('sha256', Buffer.from(this.relay.key, 'hex')).update(text).digest('hex');
  }
}

/** One JSON object a line; a peer that says anything else, or says too much, is hung up on. */
function eachLine(socket: Socket, heard: (message: Record<string, unknown>, rest: Buffer) => void): void {
  let held = Buffer.alloc(0);
  socket.on('data', (piece: Buffer) => {
    held = Buffer.concat([held, piece]);
    for (let end = held.indexOf(10); end >= 0 && socket.listenerCount('data') > 0; end = held.indexOf(10)) {
      const line = held.toString('utf8', 0, end);
      held = held.subarray(end + 1);
      try {
        heard(JSON.parse(line) as Record<string, unknown>, held);
      } catch {
        return void socket.destroy(new Error('the relay says something that is not understood'));
      }
    }
    if (held.length > 4096) socket.destroy(new Error('the relay says something that is not understood'));
  });
}
