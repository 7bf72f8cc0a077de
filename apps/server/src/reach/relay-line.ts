import { eachMessage, officeEnd, say, type Invitation } from '@quay/relay';
import type { Socket } from 'node:net';
import { connect as tlsConnect, type TLSSocket } from 'node:tls';
import { aside } from '../platform/aside.js';
import type { Dialler } from '../platform/dialler.js';
import { log } from '../platform/log/log.js';

const CONNECT_MS = 5000;
const SILENT_MS = 60_000;
const AGAIN_FIRST_MS = 500;
const AGAIN_MOST_MS = 60_000;
/** Visitors whose connection is being fetched at the same moment; a relay that asks for more is not believed. */
const CALLS_MOST = 200;

/** What the relay says of this office when its line stands. */
export interface Standing {
  /** The names that are this office's there. */
  names: string[];
  /** Those of them that it passes on now. */
  serves: string[];
  /** Those that it does not, which are another's there. */
  refused: string[];
  /** Where names must lead to come to it. */
  addresses: string[];
}

/**
 * The line that this process keeps to a relay: outwards, so that no port is opened, and encrypted with the secret of the
 * invitation. For each visitor the relay calls; a new connection is made for them and handed to the door, where their TLS
 * ends. What is said on the line is told in docs/relay.md.
 */
export class RelayLine {
  /** Why no line stands now; null: one does. */
  trouble: string | null = 'It has not answered yet';
  /** What the relay said last; null: no line stands. */
  standing: Standing | null = null;
  private socket: TLSSocket | null = null;
  /** Lines that the relay is about to end, and over which it may still call. */
  private readonly leaving = new Set<TLSSocket>();
  private names: readonly string[] = [];
  /** Whether names can be said on the present line. */
  private isOpen = false;
  private stopped = false;
  private again = AGAIN_FIRST_MS;
  private timer: NodeJS.Timeout | null = null;
  private fetching = 0;

  /** @param enter takes in who comes: the name they asked for, and where the relay saw them */
  constructor(
    readonly to: Invitation,
    private readonly dialler: Dialler,
    private readonly enter: (host: string, socket: Socket, from: string) => void,
  ) {
    this.keepAside();
  }

  /** Says by which names this office is reached. */
  setNames(names: readonly string[]): void {
    if (names.length === this.names.length && names.every((name) => this.names.includes(name))) return;
    this.names = names;
    if (this.socket && this.isOpen) say(this.socket, { names });
  }

  stop(): void {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    this.socket?.destroy();
    for (const socket of this.leaving) socket.destroy();
  }

  private keepAside(): void {
    aside(this.keep(), 'the line to the relay could not be kept');
  }

  private async keep(): Promise<void> {
    const { host, port, office, secret } = this.to;
    try {
      const plain = await this.dialler.connect(host, port, CONNECT_MS);
      plain.setNoDelay(true);
      const socket = tlsConnect({ socket: plain, ...officeEnd(office, secret) });
      this.socket = socket;
      this.isOpen = false;
      if (this.stopped) return void socket.destroy();
      socket.setTimeout(SILENT_MS, () => socket.destroy(new Error('it fell silent')));
      socket.on('error', (error) => (this.trouble = reasonOf(error)));
      socket.once('close', () => this.lost(socket));
      socket.once('secureConnect', () => {
        this.isOpen = true;
        say(socket, { names: this.names });
      });
      eachMessage(socket, (message) => this.heard(socket, message));
    } catch (error) {
      this.trouble = reasonOf(error as Error);
      this.lost(this.socket);
    }
  }

  private heard(socket: TLSSocket, message: Record<string, unknown>): void {
    if (message['ok'] === true) {
      this.standing = {
        names: texts(message['names']),
        serves: texts(message['serves']),
        refused: texts(message['refused']),
        addresses: texts(message['addresses']),
      };
      this.trouble = null;
      this.again = AGAIN_FIRST_MS;
    } else if (message['ping'] !== undefined) say(socket, { pong: 1 });
    else if (message['leaving'] === true && socket === this.socket) {
      // Another is kept from now on; who is still called over this one is still fetched.
      this.leaving.add(socket);
      this.socket = null;
      this.keepAside();
    } else if (typeof message['call'] === 'string' && this.fetching < CALLS_MOST)
      aside(
        this.fetch(message['call'], String(message['name'] ?? ''), String(message['from'] ?? '')),
        'a visitor could not be fetched from the relay',
      );
  }

  private async fetch(call: string, name: string, from: string): Promise<void> {
    if (!/^[0-9a-f]{32}$/.test(call)) return;
    this.fetching += 1;
    try {
      const { host, port } = this.to;
      const socket = await this.dialler.connect(host, port, CONNECT_MS);
      socket.on('error', () => socket.destroy());
      socket.setNoDelay(true);
      socket.pause();
      socket.write(`${call}\n`);
      this.enter(name, socket, /^[0-9a-f.:]{2,45}$/i.test(from) ? from : host);
    } catch (error) {
      log.warn({ err: error }, 'a visitor could not be fetched from the relay');
    } finally {
      this.fetching -= 1;
    }
  }

  private lost(socket: TLSSocket | null): void {
    if (socket && this.leaving.delete(socket)) return;
    if (socket !== this.socket) return;
    this.socket = null;
    this.standing = null;
    this.trouble ??= 'it hung up';
    if (this.stopped) return;
    this.timer = setTimeout(() => this.keepAside(), this.again);
    this.timer.unref();
    this.again = Math.min(AGAIN_MOST_MS, this.again * 2);
  }
}

/** What a relay says is looked at before it is believed. */
const texts = (value: unknown): string[] =>
  Array.isArray(value) ? value.filter((t): t is string => typeof t === 'string' && t.length <= 253).slice(0, 50) : [];

/** An end that knows another secret, or no such office, breaks off in the midst of the handshake (RFC 4279 §2). */
function reasonOf({ message }: Error): string {
  return /unknown psk|decrypt|bad record|handshake failure|alert/i.test(message)
    ? 'it does not know this office any more: ask whoever runs it for a new invitation'
    : message;
}
