import { createHmac, randomBytes, timingSafeEqual } from 'node:crypto';
import { createServer as createHttp, type Server as HttpServer } from 'node:http';
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import { serverName } from './codec.js';

const HELLO_MS = 10_000;
const CALL_MS = 10_000;
const PING_MS = 20_000;
const HELLO_MOST = 20_000;
const LINES_MOST = 16;

/** A keeper's line: the connection that a server keeps to the relay for one name. */
interface Line {
  socket: Socket;
  lastHeard: number;
}

/**
 * A relay on loopback. Servers keep a line to it and prove for which name with a key; whoever connects to its public side
 * is passed through to the line of the name they ask for. TLS ends at the server: what passes here cannot be read.
 *
 * On the line, one JSON object a line. The relay begins: {"challenge"}. The server: {"host","proof"}, where proof is the
 * HMAC-SHA-256 of challenge and host. Then {"ok"}, and for each visitor {"call","from"}, upon which the server connects anew
 * and says {"answer","proof"} with the HMAC of the call; from the next byte on that connection is the visitor's.
 */
export class Relay {
  down = false;
  /** Bytes that went through, for the page. */
  passed = 0;
  /** A server may have several processes: each keeps a line, the newest is called. */
  private readonly lines = new Map<string, Line[]>();
  private readonly calls = new Map<string, (socket: Socket, rest: Buffer) => void>();
  private readonly servers: (Server | HttpServer)[] = [];
  private readonly open = new Set<Socket>();
  private timer: NodeJS.Timeout | null = null;

  /** @param keys by name @param seenAs the address that a peer on loopback stands for */
  constructor(
    private readonly keys: ReadonlyMap<string, Buffer>,
    private readonly seenAs: (peer: string) => string,
  ) {}

  get names(): string[] {
    return [...this.lines.keys()];
  }

  async listen(
    host: string,
    ports: { line: number; tls: number; plain: number },
  ): Promise<{ line: number; tls: number; plain: number }> {
    const line = createServer((socket) => this.keeper(socket));
    const tls = createServer((socket) => this.visitor(socket));
    // Names travel in the clear in plain requests, so the relay may answer these itself.
    const plain = createHttp((req, res) =>
      res
        .writeHead(
          this.down ? 503 : 301,
          this.down ? {} : { location: `https://${(req.headers.host ?? '').replace(/:\d+$/, '')}${req.url ?? '/'}` },
        )
        .end(),
    );
    const chosen = [];
    for (const [server, port] of [
      [line, ports.line],
      [tls, ports.tls],
      [plain, ports.plain],
    ] as const) {
      await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, host, resolve));
      this.servers.push(server);
      chosen.push((server.address() as AddressInfo).port);
    }
    this.timer = setInterval(() => this.ping(), PING_MS);
    this.timer.unref();
    return { line: chosen[0] as number, tls: chosen[1] as number, plain: chosen[2] as number };
  }

  async close(): Promise<void> {
    if (this.timer) clearInterval(this.timer);
    this.hangUp();
    await Promise.all(this.servers.map((s) => new Promise<void>((resolve) => s.close(() => resolve()))));
  }

  /** Ends everything that stands. */
  hangUp(): void {
    for (const socket of this.open) socket.destroy();
  }

  private keeper(socket: Socket): void {
    this.track(socket);
    if (this.down) return void socket.destroy();
    const challenge = randomBytes(16).toString('hex');
    socket.write(`${JSON.stringify({ challenge })}\n`);
    const timer = setTimeout(() => socket.destroy(), HELLO_MS);
    let name: string | null = null;
    lines(socket, (message, rest) => {
      if (name !== null) return void this.heard(name, socket);
      clearTimeout(timer);
      if (typeof message['answer'] === 'string') return this.answered(socket, message, rest);
      const host = String(message['host'] ?? '');
      if (!this.proves(host, challenge + host, message['proof']))
        return void socket.end(`${JSON.stringify({ refused: 'The key is another.' })}\n`);
      name = host;
      this.lines.set(host, [...(this.lines.get(host) ?? []), { socket, lastHeard: Date.now() }].slice(-LINES_MOST));
      socket.on('close', () => {
        const left = (this.lines.get(host) ?? []).filter((l) => l.socket !== socket);
        if (left.length > 0) this.lines.set(host, left);
        else this.lines.delete(host);
      });
      socket.write(`${JSON.stringify({ ok: true })}\n`);
    });
  }

  private heard(name: string, socket: Socket): void {
    const line = this.lines.get(name)?.find((l) => l.socket === socket);
    if (line) line.lastHeard = Date.now();
  }

  private answered(socket: Socket, message: Record<string, unknown>, rest: Buffer): void {
    const [call = '', host = ''] = String(message['answer']).split(' ');
    const done = this.calls.get(call);
    if (!done || !this.proves(host, call, message['proof'])) return void socket.destroy();
    this.calls.delete(call);
    socket.removeAllListeners('data');
    done(socket, rest);
  }

  private visitor(socket: Socket): void {
    this.track(socket);
    if (this.down) return void socket.destroy();
    let held = Buffer.alloc(0);
    const timer = setTimeout(() => socket.destroy(), HELLO_MS);
    const gather = (piece: Buffer) => {
      held = Buffer.concat([held, piece]);
      const verdict = serverName(held);
      if (verdict.outcome === 'more' && held.length < HELLO_MOST) return;
      clearTimeout(timer);
      socket.off('data', gather);
      socket.pause();
      const line = verdict.outcome === 'name' ? this.lines.get(verdict.name)?.at(-1) : undefined;
      if (!line || verdict.outcome !== 'name') return void socket.destroy();
      this.call(line, verdict.name, socket, held);
    };
    socket.on('data', gather);
  }

  private call(line: Line, host: string, visitor: Socket, held: Buffer): void {
    const call = randomBytes(16).toString('hex');
    const timer = setTimeout(() => {
      this.calls.delete(call);
      visitor.destroy();
    }, CALL_MS);
    this.calls.set(call, (server, rest) => {
      clearTimeout(timer);
      server.write(held);
      if (rest.length) visitor.write(rest);
      for (const side of [server, visitor]) side.on('data', (piece: Buffer) => (this.passed += piece.length));
      visitor.pipe(server).pipe(visitor);
      visitor.once('close', () => server.destroy());
      server.once('close', () => visitor.destroy());
    });
    line.socket.write(
      `${JSON.stringify({ call: `${call} ${host}`, from: this.seenAs(visitor.remoteAddress ?? '') })}\n`,
    );
  }

  private proves(host: string, text: string, proof: unknown): boolean {
    const key = this.keys.get(host);
    if (!key || typeof proof !== 'string') return false;
    const expected = createHmac('sha256', key).update(text).digest();
    const given = Buffer.from(proof, 'hex');
    return given.length === expected.length && timingSafeEqual(given, expected);
  }

  private ping(): void {
    for (const { socket, lastHeard } of [...this.lines.values()].flat()) {
      if (Date.now() - lastHeard > 3 * PING_MS) socket.destroy();
      else socket.write('{"ping":1}\n');
    }
  }

  private track(socket: Socket): void {
    socket.setNoDelay(true);
    this.open.add(socket);
    socket.on('error', () => socket.destroy());
    socket.on('close', () => this.open.delete(socket));
  }
}

/** Gives each line as the object it holds, with what came behind it; a peer that says anything else is hung up on. */
function lines(socket: Socket, each: (message: Record<string, unknown>, rest: Buffer) => void): void {
  let held = Buffer.alloc(0);
  socket.on('data', (piece: Buffer) => {
    held = Buffer.concat([held, piece]);
    for (let end = held.indexOf(10); end >= 0; end = held.indexOf(10)) {
      const line = held.toString('utf8', 0, end);
      held = held.subarray(end + 1);
      let message: unknown;
      try {
        message = JSON.parse(line);
      } catch {
        return void socket.destroy();
      }
      if (message === null || typeof message !== 'object') return void socket.destroy();
      each(message as Record<string, unknown>, held);
      if (socket.listenerCount('data') === 0) return;
    }
    if (held.length > 4096) socket.destroy();
  });
}
