import { connect, type Socket } from 'node:net';
import { connect as tlsConnect } from 'node:tls';
import { eachMessage, say } from '../lines.js';
import { officeEnd } from '../psk.js';

/** An office as small as can be: keeps a line, and fetches whom it is called for to a port of this machine. */
export class SmallOffice {
  readonly heard: Record<string, unknown>[] = [];
  /** Calls are not answered while this is set. */
  deaf = false;
  private waiting: (() => void)[] = [];

  private constructor(
    private readonly socket: Socket,
    private readonly port: number,
    private readonly serves: number,
  ) {
    eachMessage(socket, (message) => {
      this.heard.push(message);
      for (const look of this.waiting) look();
      if (typeof message['call'] === 'string' && !this.deaf) this.fetch(message['call']);
    });
    socket.on('close', () => {
      this.heard.push({ closed: true });
      for (const look of this.waiting) look();
    });
  }

  static line(port: number, id: string, secret: Buffer, names: string[], serves = 0): SmallOffice {
    const socket = tlsConnect({ host: '127.0.0.1', port, ...officeEnd(id, secret) });
    socket.on('error', () => socket.destroy());
    socket.once('secureConnect', () => say(socket, { names }));
    return new SmallOffice(socket, port, serves);
  }

  say = (message: object) => say(this.socket, message);
  close = () => void this.socket.destroy();

  /** Waits for a message that has a member. */
  async hears(member: string): Promise<Record<string, unknown>> {
    for (;;) {
      const found = this.heard.find((m) => member in m);
      if (found) return found;
      await new Promise<void>((resolve) => this.waiting.push(resolve));
    }
  }

  private fetch(call: string): void {
    const back = connect(this.port, '127.0.0.1', () => {
      back.write(`${call}\n`);
      const there = connect(this.serves, '127.0.0.1');
      back.pipe(there).pipe(back);
      back.on('error', () => there.destroy());
      there.on('error', () => back.destroy());
      back.on('close', () => there.destroy());
      there.on('close', () => back.destroy());
    });
    back.on('error', () => back.destroy());
  }
}
