import { randomBytes } from 'node:crypto';
import {
  createServer as createHttp,
  type IncomingMessage,
  type Server as HttpServer,
  type ServerResponse,
} from 'node:http';
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import { clientHello, HELLO_MOST } from './hello.js';
import { isName } from './invitation.js';
import { Pace, Sources, type SourceLimits, type Usage } from './limits.js';
import { eachMessage, say } from './lines.js';
import { relayEnd } from './psk.js';
import type { Limits, OfficeRow, Register } from './register.js';

/** What a browser says first, and an office's answer to a call, come within this. */
const HELLO_MS = 10_000;
/** A line that does not answer a call is passed over for another. */
const CALL_MS = 4000;
const CALL_TRIES = 3;
const PING_MS = 20_000;
/** A visitor and an office that say nothing to each other for so long are done. */
const IDLE_MS = 15 * 60_000;
const COUNT_MS = 2000;
/** How long a process that is followed by another waits for answers of offices. */
const QUIET_MS = 15_000;
const HALF_OPEN = { allowHalfOpen: true, noDelay: true } as const;
/** Lines of one office: its processes keep one each, and those that end still have theirs. */
const LINES_MOST = 16;
const CALL = /^([0-9a-f]{32})\n/;
const CALL_BYTES = 33;
/** The first byte of TLS (RFC 8446 §5.1). */
const HANDSHAKE = 22;
/** RFC 8446 §6: a browser is told why nobody answers. */
const ALERT = { unknownName: 112, notNow: 80 } as const;

export interface RelayOptions {
  register: Register;
  usage: Usage;
  /** What an office may use where its row does not say. */
  limits: Limits;
  sources: SourceLimits;
  /** Where names must lead to come here; offices are told. */
  addresses: readonly string[];
  now?: () => number;
  /** Which address a peer stands for. */
  seenAs?: (peer: string) => string;
}

/** The connection that an office keeps to the relay, outwards, over which it is called. */
interface Line {
  office: string;
  socket: Socket;
  names: ReadonlySet<string>;
  lastHeard: number;
  /** Calls that are not answered; each is made over another line when this one ends. */
  waiting: Set<() => void>;
}

/** Visitors of an office: now, and since this process began. */
interface Tally {
  now: number;
  visitors: number;
  refused: number;
}

/** A visitor for whom an office is called. */
interface Call {
  office: string;
  name: string;
  visitor: Socket;
  held: Buffer;
  tries: number;
  asked: Set<Line>;
}

interface Passing {
  office: string;
  visitor: Socket;
  server: Socket;
  counted: number;
}

export interface OfficeStatus {
  id: string;
  names: readonly string[];
  lines: number;
  visitors: number;
  /** Since this process began. */
  visitorsEver: number;
  refusedEver: number;
  monthBytes: number;
}

interface Ports {
  line: number;
  tls: number;
  plain: number;
}

/**
 * Passes visitors on to offices whose lines stand, by the name that they ask for (SNI). Their TLS ends at the office: what
 * passes here cannot be read. docs/relay.md says what is said on a line.
 */
export class Relay {
  /** Nobody is let in, as when the machine is out of order. */
  down = false;
  private readonly lines = new Map<string, Line[]>();
  private readonly calls = new Map<string, (server: Socket, rest: Buffer) => void>();
  /** Visitors of offices that have no line at this moment. */
  private readonly awaited = new Map<string, Set<() => void>>();
  private readonly passing = new Set<Passing>();
  private readonly open = new Set<Socket>();
  private readonly servers: (Server | HttpServer)[] = [];
  private readonly forVisitors: (Server | HttpServer)[] = [];
  /** Visitors who have not said yet whom they want. */
  private greeting = 0;
  private readonly sources: Sources;
  private readonly paces = new Map<string, Pace>();
  private readonly tallies = new Map<string, Tally>();
  private timers: NodeJS.Timeout[] = [];
  private readonly now: () => number;

  constructor(private readonly options: RelayOptions) {
    this.sources = new Sources(options.sources);
    this.now = options.now ?? Date.now;
  }

  /** Opens the three doors: for offices, for visitors, for those who type no https. @returns the ports */
  async listen(host: string, wanted: Ports): Promise<Ports> {
    const line = await this.listenForOffices(host, wanted.line);
    return { line, ...(await this.listenForVisitors(host, wanted)) };
  }

  async listenForOffices(host: string, port: number): Promise<number> {
    return this.begin(
      createServer(HALF_OPEN, (socket) => this.officeComes(socket)),
      port,
      host,
    );
  }

  /** Who comes before the line of an office stands waits a while for it. */
  async listenForVisitors(host: string, wanted: Omit<Ports, 'line'>): Promise<Omit<Ports, 'line'>> {
    const visitors = createServer(HALF_OPEN, (socket) => this.visitorComes(socket));
    const plain = createHttp((req, res) => this.sendOn(req, res));
    const ports = {
      tls: await this.begin(visitors, wanted.tls, host),
      plain: await this.begin(plain, wanted.plain, host),
    };
    this.forVisitors.push(visitors, plain);
    this.timers = [setInterval(() => this.ping(), PING_MS), setInterval(() => this.count(), COUNT_MS)];
    for (const timer of this.timers) timer.unref();
    return ports;
  }

  /**
   * Takes no new visitor in, and waits until offices have answered for those that are there. From then on nobody is called,
   * so that whoever opens the door for offices next to this one gets no answers that are for this one.
   */
  async closeToVisitors(): Promise<void> {
    for (const server of this.forVisitors) server.close();
    const ends = this.now() + QUIET_MS;
    while ((this.calls.size > 0 || this.awaited.size > 0 || this.greeting > 0) && this.now() < ends)
      await new Promise((resolve) => setTimeout(resolve, 20));
  }

  /** Takes nobody new in, asks offices to keep their lines elsewhere, and lets visitors end. */
  async leave(mostMs: number): Promise<void> {
    for (const server of this.servers) server.close();
    for (const { socket } of [...this.lines.values()].flat()) say(socket, { leaving: true });
    for (const until = this.now() + mostMs; this.passing.size > 0 && this.now() < until;)
      await new Promise((resolve) => setTimeout(resolve, 100));
    this.end();
  }

  async close(): Promise<void> {
    const closed = this.servers.map((s) => new Promise<void>((resolve) => s.close(() => resolve())));
    this.end();
    await Promise.all(closed);
  }

  /** Ends everything that stands. */
  hangUp(): void {
    for (const socket of this.open) socket.destroy();
  }

  /** Names that are reached now. */
  get names(): string[] {
    return [...new Set([...this.lines.values()].flat().flatMap((line) => [...line.names]))].sort();
  }

  /** Bytes that went through in this month. */
  get passed(): number {
    this.count();
    return this.options.register.offices.reduce((sum, { id }) => sum + this.options.usage.of(id), 0);
  }

  status(): OfficeStatus[] {
    this.count();
    return this.options.register.offices.map(({ id, names }) => ({
      id,
      names,
      lines: this.lines.get(id)?.length ?? 0,
      visitors: this.tally(id).now,
      visitorsEver: this.tally(id).visitors,
      refusedEver: this.tally(id).refused,
      monthBytes: this.options.usage.of(id),
    }));
  }

  private async begin(server: Server | HttpServer, port: number, host: string): Promise<number> {
    await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, host, resolve));
    this.servers.push(server);
    return (server.address() as AddressInfo).port;
  }

  private end(): void {
    for (const timer of this.timers) clearInterval(timer);
    this.count();
    this.options.usage.keep();
    this.hangUp();
  }

  /** An office's line, or its answer to a call: told apart by the first byte. */
  private officeComes(socket: Socket): void {
    this.track(socket);
    if (this.down) return void socket.destroy();
    readFirst(
      socket,
      (held) => held[0] === HANDSHAKE || held.length >= CALL_BYTES,
      (held) => {
        if (held[0] !== HANDSHAKE) return this.answered(socket, held);
        socket.unshift(held);
        this.lineComes(socket);
      },
    );
  }

  private answered(socket: Socket, held: Buffer): void {
    const call = CALL.exec(held.toString('latin1', 0, CALL_BYTES))?.[1];
    const done = call === undefined ? undefined : this.calls.get(call);
    if (call === undefined || !done) return void socket.destroy();
    this.calls.delete(call);
    done(socket, held.subarray(CALL_BYTES));
  }

  private lineComes(raw: Socket): void {
    const secretOf = (id: string) => {
      const row = this.options.register.office(id);
      return row ? Buffer.from(row.secret, 'base64url') : null;
    };
    const socket = relayEnd(raw, secretOf);
    const late = setTimeout(() => socket.destroy(), HELLO_MS);
    socket.on('error', () => raw.destroy());
    let line: Line | null = null;
    eachMessage(socket, (message) => {
      if (socket.office === undefined) return void socket.destroy();
      if (line) line.lastHeard = this.now();
      if (!Array.isArray(message['names'])) return;
      clearTimeout(late);
      line ??= this.keepLine(socket.office, socket);
      this.name(line, message['names']);
    });
    socket.once('close', () => {
      clearTimeout(late);
      raw.destroy();
      if (line) this.lose(line);
    });
    socket.resume();
  }

  private keepLine(office: string, socket: Socket): Line {
    const line: Line = { office, socket, names: new Set(), lastHeard: this.now(), waiting: new Set() };
    const lines = [...(this.lines.get(office) ?? []), line];
    for (const old of lines.splice(0, lines.length - LINES_MOST)) old.socket.destroy();
    this.lines.set(office, lines);
    return line;
  }

  private lose(line: Line): void {
    const left = (this.lines.get(line.office) ?? []).filter((l) => l !== line);
    if (left.length > 0) this.lines.set(line.office, left);
    else this.lines.delete(line.office);
    for (const again of [...line.waiting]) again();
  }

  /** The names that an office wants to be reached by: those that are its own, or may become so. */
  private name(line: Line, wanted: readonly unknown[]): void {
    const asked = [...new Set(wanted.filter((n): n is string => typeof n === 'string').map((n) => n.toLowerCase()))];
    const refused = this.options.register.bring(line.office, asked);
    const own = this.options.register.office(line.office)?.names ?? [];
    const serves = asked.filter((name) => own.includes(name));
    line.names = new Set(serves);
    const { addresses } = this.options;
    say(line.socket, { ok: true, names: own, serves, refused: refused.slice(0, 50), addresses });
    for (const goOn of [...(this.awaited.get(line.office) ?? [])]) goOn();
  }

  private visitorComes(socket: Socket): void {
    this.track(socket);
    const from = socket.remoteAddress ?? '';
    if (this.down || !this.sources.enter(from, this.now())) return void socket.destroy();
    socket.once('close', () => this.sources.leave(from));
    let isGreeting = true;
    this.greeting += 1;
    const greeted = () => {
      if (isGreeting) this.greeting -= 1;
      isGreeting = false;
    };
    socket.once('close', greeted);
    readFirst(
      socket,
      (held) => clientHello(held).outcome !== 'more' || held.length > HELLO_MOST,
      (held) => {
        greeted();
        this.welcome(socket, held);
      },
    );
  }

  private welcome(visitor: Socket, held: Buffer): void {
    const hello = clientHello(held);
    const name = hello.outcome === 'hello' ? hello.name : null;
    const office = name === null ? undefined : this.options.register.ownerOf(name);
    if (name === null || !office) return refuse(visitor, ALERT.unknownName);
    if (!this.mayEnter(office)) {
      this.tally(office.id).refused += 1;
      return refuse(visitor, ALERT.notNow);
    }
    this.tally(office.id).visitors += 1;
    this.call({ office: office.id, name, visitor, held, tries: 0, asked: new Set() });
  }

  private mayEnter(office: OfficeRow): boolean {
    const limits = { ...this.options.limits, ...office.limits };
    let pace = this.paces.get(office.id);
    if (!pace) this.paces.set(office.id, (pace = new Pace(limits.perSecond, limits.perSecond * 4, this.now())));
    if (limits.monthBytes !== null && this.options.usage.of(office.id) >= limits.monthBytes) return false;
    return this.tally(office.id).now < limits.visitors && pace.take(this.now());
  }

  /** Has an office fetch a visitor, over another line where one does not answer. */
  private call(wanted: Call): void {
    const { office, name, visitor, held, tries, asked } = wanted;
    if (visitor.destroyed) return;
    const lines = (this.lines.get(office) ?? []).filter((l) => l.names.has(name));
    const line = lines.filter((l) => !asked.has(l)).at(-1) ?? lines.at(-1);
    if (tries >= CALL_TRIES) return refuse(visitor, ALERT.notNow);
    if (!line) return this.awaitLine({ ...wanted, tries: tries + 1 });
    asked.add(line);
    const call = randomBytes(16).toString('hex');
    const again = () => {
      if (!this.calls.delete(call)) return;
      done();
      this.call({ ...wanted, tries: tries + 1 });
    };
    const timer = setTimeout(again, CALL_MS);
    const done = () => {
      clearTimeout(timer);
      line.waiting.delete(again);
    };
    this.calls.set(call, (server, rest) => {
      done();
      this.pass(office, visitor, server, held, rest);
    });
    line.waiting.add(again);
    const seen = this.options.seenAs ?? ((peer: string) => peer.replace(/^::ffff:(?=\d+\.)/i, ''));
    say(line.socket, { call, name, from: seen(visitor.remoteAddress ?? '') });
  }

  /** A line may be on its way: an office makes another at once when one ends, or when this process takes over. */
  private awaitLine(wanted: Call): void {
    const waiting = this.awaited.get(wanted.office) ?? new Set();
    if (waiting.size >= this.options.limits.visitors) return refuse(wanted.visitor, ALERT.notNow);
    this.awaited.set(wanted.office, waiting);
    const goOn = () => {
      clearTimeout(timer);
      waiting.delete(goOn);
      if (waiting.size === 0) this.awaited.delete(wanted.office);
      this.call(wanted);
    };
    const timer = setTimeout(goOn, CALL_MS);
    waiting.add(goOn);
  }

  private pass(office: string, visitor: Socket, server: Socket, held: Buffer, rest: Buffer): void {
    if (visitor.destroyed) return void server.destroy();
    const passing: Passing = { office, visitor, server, counted: 0 };
    this.passing.add(passing);
    this.tally(office).now += 1;
    server.write(held);
    if (rest.length > 0) visitor.write(rest);
    visitor.pipe(server);
    server.pipe(visitor);
    for (const [side, other] of [
      [visitor, server],
      [server, visitor],
    ] as const) {
      side.setTimeout(IDLE_MS, () => side.destroy());
      side.once('close', () => {
        // What was said before the end is still passed on.
        if (side.errored) other.destroy();
        else other.end();
        this.countOne(passing);
        if (this.passing.delete(passing)) this.tally(office).now -= 1;
      });
    }
  }

  private tally(office: string): Tally {
    let mine = this.tallies.get(office);
    if (!mine) this.tallies.set(office, (mine = { now: 0, visitors: 0, refused: 0 }));
    return mine;
  }

  private countOne(passing: Passing): void {
    const bytes = passing.visitor.bytesRead + passing.server.bytesRead;
    this.options.usage.add(passing.office, bytes - passing.counted);
    passing.counted = bytes;
  }

  /** Counts what goes through, and ends what goes beyond an office's month. */
  private count(): void {
    for (const passing of this.passing) {
      this.countOne(passing);
      const row = this.options.register.office(passing.office);
      const most = { ...this.options.limits, ...row?.limits }.monthBytes;
      if (!row || (most !== null && this.options.usage.of(passing.office) >= most)) passing.visitor.destroy();
    }
    for (const [id, lines] of this.lines)
      if (!this.options.register.office(id)) for (const line of lines) line.socket.destroy();
    this.sources.forget(this.now());
  }

  private ping(): void {
    for (const { socket, lastHeard } of [...this.lines.values()].flat())
      if (this.now() - lastHeard > 3 * PING_MS) socket.destroy();
      else say(socket, { ping: 1 });
    this.options.usage.keep();
  }

  /** Names travel in the clear in plain requests, so the relay answers these itself. */
  private sendOn(req: IncomingMessage, res: ServerResponse): void {
    const name = (req.headers.host ?? '').replace(/:\d+$/, '').toLowerCase();
    const known = !this.down && isName(name) && this.options.register.ownerOf(name);
    const path = req.url?.startsWith('/') ? req.url : '/';
    if (known) res.writeHead(301, { location: `https://${name}${path}`, 'content-length': '0' });
    else res.writeHead(this.down ? 503 : 404, { 'content-length': '0' });
    res.end();
  }

  private track(socket: Socket): void {
    this.open.add(socket);
    socket.on('error', () => socket.destroy());
    socket.on('close', () => this.open.delete(socket));
  }
}

/** Reads until there is enough to decide by; whoever takes too long, or ends before, is hung up on. */
function readFirst(socket: Socket, isEnough: (held: Buffer) => boolean, then: (held: Buffer) => void): void {
  const hangUp = () => void socket.destroy();
  const late = setTimeout(hangUp, HELLO_MS);
  let held = Buffer.alloc(0);
  const gather = (piece: Buffer) => {
    held = Buffer.concat([held, piece]);
    if (!isEnough(held)) return;
    clearTimeout(late);
    socket.off('data', gather).off('end', hangUp).pause();
    then(held);
  };
  socket.on('data', gather).once('end', hangUp);
  socket.once('close', () => clearTimeout(late));
}

function refuse(socket: Socket, alert: number): void {
  socket.end(Buffer.from([21, 3, 3, 0, 2, 2, alert]));
  setTimeout(() => socket.destroy(), 1000).unref();
}
