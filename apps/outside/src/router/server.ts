import { createSocket, type RemoteInfo, type Socket } from 'node:dgram';
import {
  createServer as createHttp,
  type IncomingMessage,
  type Server as HttpServer,
  type ServerResponse,
} from 'node:http';
import { connect, createServer, type AddressInfo, type Server, type Socket as TcpSocket } from 'node:net';
import {
  decodePcp,
  decodePmp,
  encodePcp,
  encodePmpAddress,
  encodePmpMap,
  encodePmpRefusal,
  PCP_RESULT,
  PMP_RESULT,
} from './codec.js';
import {
  live,
  LONGEST_LEASE_SECONDS,
  map,
  NO_FAULTS,
  outsideAddress,
  unmap,
  type Mapping,
  type RouterState,
} from './state.js';
import {
  decodeAction,
  encodeAnswer,
  encodeFault,
  rootDescription,
  searchAnswer,
  UPNP_ERROR,
  type UpnpAction,
} from './upnp.js';

const TCP_PROTOCOL = 6;

/** Where things of the simulated world are on this machine. */
export interface Wiring {
  /** Loopback address and port on which the router's public address answers, for an external port; null: not wired. */
  publicSide: (externalPort: number) => { host: string; port: number } | null;
  /** Loopback address and port of a host and port inside. */
  inside: (address: string, port: number) => { host: string; port: number };
  /** The inside address that a peer on loopback stands for. */
  who: (peer: string) => string;
  /** Where its description is, as those inside are told. */
  description: string;
}

/** A router on loopback: NAT-PMP, PCP and UPnP inside; on its public side it really forwards TCP. */
export class Router {
  state: RouterState;
  private began: number;
  private udp: Socket | null = null;
  private http: HttpServer | null = null;
  private ssdp: Socket | null = null;
  private answers: Socket | null = null;
  private readonly doors = new Map<number, { server: Server; port: number }>();
  private readonly open = new Set<TcpSocket>();
  private timer: NodeJS.Timeout | null = null;

  constructor(
    publicAddress: string,
    private readonly wiring: Wiring,
    private readonly now = () => Math.floor(Date.now() / 1000),
    private readonly random = Math.random,
  ) {
    this.state = { mappings: [], publicAddress, faults: NO_FAULTS };
    this.began = this.now();
  }

  /** @returns the ports that were taken: 5351 for the mapping protocols, unless another is asked for */
  async listen(host: string, pmpPort = 5351, upnpPort = 0): Promise<{ pmp: number; upnp: number; ssdp: number }> {
    const udp = createSocket('udp4');
    udp.on('message', (bytes, from) => {
      this.datagram(bytes, from)
        .then((answer) => answer && udp.send(answer, from.port, from.address))
        .catch((error: Error) => console.error(error.message));
    });
    await new Promise<void>((resolve, reject) => udp.once('error', reject).bind(pmpPort, host, resolve));
    this.udp = udp;
    this.http = createHttp((req, res) => {
      this.request(req, res).catch(() => res.destroy());
    });
    await new Promise<void>((resolve, reject) => this.http?.once('error', reject).listen(upnpPort, host, resolve));
    const ssdp = createSocket('udp4');
    // A router answers a search of the group from an address of its own.
    const answers = createSocket('udp4');
    await new Promise<void>((resolve, reject) => answers.once('error', reject).bind(0, host, resolve));
    this.answers = answers;
    ssdp.on('message', (bytes, from) => {
      const answer = this.state.faults.noUpnp ? null : searchAnswer(bytes, this.wiring.description);
      if (answer) answers.send(answer, from.port, from.address);
    });
    await new Promise<void>((resolve, reject) => ssdp.once('error', reject).bind(0, host, resolve));
    this.ssdp = ssdp;
    this.timer = setInterval(() => {
      this.follow().catch((error: Error) => console.error(error.message));
    }, 1000);
    this.timer.unref();
    return { pmp: udp.address().port, upnp: (this.http.address() as AddressInfo).port, ssdp: ssdp.address().port };
  }

  async close(): Promise<void> {
    if (this.timer) clearInterval(this.timer);
    for (const socket of this.open) socket.destroy();
    for (const { server } of this.doors.values()) server.close();
    this.http?.closeAllConnections();
    this.ssdp?.close();
    this.answers?.close();
    await Promise.all([
      this.udp && new Promise<void>((r) => this.udp?.close(() => r())),
      this.http && new Promise<void>((r) => this.http?.close(() => r())),
    ]);
  }

  /** A mapping made by hand, on the router's own pages. */
  async mapByHand(externalPort: number, internalAddress: string, internalPort: number): Promise<void> {
    this.state = map(
      this.state,
      { protocol: 'tcp', externalPort, internalAddress, internalPort, endsAt: null, description: 'by hand' },
      this.now(),
      false,
    ).state;
    await this.follow();
  }

  /** Switched off and on: what it mapped is gone, and it counts its age from now on (RFC 6886 §3.6). */
  beginAnew(): void {
    this.began = this.now();
    this.state = { ...this.state, mappings: this.state.mappings.filter((m) => m.description === 'by hand') };
  }

  private async datagram(bytes: Buffer, from: RemoteInfo): Promise<Buffer | null> {
    const inside = this.wiring.who(from.address);
    const answer = bytes[0] === 2 && !this.state.faults.noPcp ? this.pcp(bytes, inside) : this.pmp(bytes, inside);
    await this.follow();
    return answer;
  }

  private pmp(bytes: Buffer, inside: string): Buffer | null {
    if (this.state.faults.noPmp || bytes.length < 2) return null;
    const epoch = this.now() - this.began;
    // RFC 6886 §3.5: another version is told so.
    if (bytes[0] !== 0) return encodePmpRefusal(bytes[1] ?? 0, PMP_RESULT['unsupported-version'], epoch);
    const request = decodePmp(bytes);
    if (request === null) return null;
    if (request === 'unsupported-opcode')
      return encodePmpRefusal(bytes[1] as number, PMP_RESULT['unsupported-opcode'], epoch);
    if (request.kind === 'address') return encodePmpAddress(PMP_RESULT.success, epoch, outsideAddress(this.state));
    const { protocol, internalPort, externalPort, lifetimeSeconds } = request;
    if (lifetimeSeconds === 0) {
      this.state = unmap(this.state, protocol, inside, internalPort);
      return encodePmpMap(protocol, PMP_RESULT.success, epoch, { internalPort, externalPort: 0, lifetimeSeconds: 0 });
    }
    const granted = Math.min(lifetimeSeconds, LONGEST_LEASE_SECONDS);
    const mapped = this.grant({
      protocol,
      externalPort,
      internalAddress: inside,
      internalPort,
      endsAt: this.now() + granted,
      description: 'NAT-PMP',
    });
    return encodePmpMap(protocol, PMP_RESULT.success, epoch, {
      internalPort,
      externalPort: mapped.externalPort,
      lifetimeSeconds: granted,
    });
  }

  private pcp(bytes: Buffer, inside: string): Buffer | null {
    const epoch = this.now() - this.began;
    const request = decodePcp(bytes);
    if (!request)
      return bytes.length < 4
        ? null
        : encodePcp((bytes[1] as number) & 0x7f, PCP_RESULT['malformed-request'], 0, epoch, null);
    const { opcode, map: asked } = request;
    if (opcode === 0) return encodePcp(0, PCP_RESULT.success, 0, epoch, null);
    if (opcode !== 1 || !asked) return encodePcp(opcode, PCP_RESULT['unsupported-opcode'], 0, epoch, null);
    if (request.clientAddress !== inside) return encodePcp(1, PCP_RESULT['address-mismatch'], 0, epoch, asked);
    const protocol = asked.protocol === TCP_PROTOCOL ? 'tcp' : 'udp';
    if (request.lifetimeSeconds === 0) {
      this.state = unmap(this.state, protocol, inside, asked.internalPort);
      return encodePcp(1, PCP_RESULT.success, 0, epoch, { ...asked, externalPort: 0 });
    }
    const granted = Math.min(request.lifetimeSeconds, LONGEST_LEASE_SECONDS);
    const mapped = this.grant({
      protocol,
      externalPort: asked.externalPort,
      internalAddress: inside,
      internalPort: asked.internalPort,
      endsAt: this.now() + granted,
      description: 'PCP',
    });
    return encodePcp(1, PCP_RESULT.success, granted, epoch, {
      ...asked,
      externalPort: mapped.externalPort,
      externalAddress: outsideAddress(this.state),
    });
  }

  private grant(asked: Mapping): Mapping {
    const granted = map(this.state, asked, this.now(), false);
    this.state = granted.state;
    return granted.outcome === 'mapped' ? granted.mapping : granted.by;
  }

  private async request(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const answer = (status: number, body: string) =>
      res.writeHead(status, { 'Content-Type': 'text/xml; charset="utf-8"' }).end(body);
    if (this.state.faults.noUpnp) return void answer(404, '');
    if (req.method === 'GET' && req.url === '/rootDesc.xml') return void answer(200, rootDescription('6d61-70'));
    if (req.method !== 'POST' || req.url !== '/control') return void answer(404, '');
    let body = '';
    for await (const piece of req) if ((body += String(piece)).length > 20_000) return void answer(413, '');
    const action = decodeAction(String(req.headers['soapaction'] ?? ''), body);
    if (!action) return void answer(500, encodeFault(UPNP_ERROR['invalid-action']));
    const told = this.act(action);
    await this.follow();
    answer(
      'fault' in told ? 500 : 200,
      'fault' in told ? encodeFault(UPNP_ERROR[told.fault]) : encodeAnswer(action.name, told.values),
    );
  }

  private act(action: UpnpAction): { values: Record<string, string | number> } | { fault: keyof typeof UPNP_ERROR } {
    const mappings = live(this.state, this.now());
    const entry = (
      m: Mapping | undefined,
    ): { values: Record<string, string | number> } | { fault: keyof typeof UPNP_ERROR } =>
      m
        ? {
            values: {
              NewRemoteHost: '',
              NewExternalPort: m.externalPort,
              NewProtocol: m.protocol.toUpperCase(),
              NewInternalPort: m.internalPort,
              NewInternalClient: m.internalAddress,
              NewEnabled: 1,
              NewPortMappingDescription: m.description,
              NewLeaseDuration: m.endsAt === null ? 0 : m.endsAt - this.now(),
            },
          }
        : { fault: 'no-such-entry' };
    switch (action.name) {
      case 'GetExternalIPAddress':
        return { values: { NewExternalIPAddress: outsideAddress(this.state) } };
      case 'GetStatusInfo':
        return {
          values: {
            NewConnectionStatus: 'Connected',
            NewLastConnectionError: 'ERROR_NONE',
            NewUptime: this.now() - this.began,
          },
        };
      case 'GetConnectionTypeInfo':
        return { values: { NewConnectionType: 'IP_Routed', NewPossibleConnectionTypes: 'IP_Routed' } };
      case 'AddPortMapping': {
        if (!action.internalAddress || !isPort(action.externalPort) || !isPort(action.internalPort))
          return { fault: 'invalid-args' };
        if (this.state.faults.permanentOnly && action.leaseSeconds > 0) return { fault: 'permanent-only' };
        const granted = map(
          this.state,
          {
            protocol: action.protocol,
            externalPort: action.externalPort,
            internalAddress: action.internalAddress,
            internalPort: action.internalPort,
            endsAt: action.leaseSeconds > 0 ? this.now() + action.leaseSeconds : null,
            description: action.description,
          },
          this.now(),
          true,
        );
        this.state = granted.state;
        return granted.outcome === 'taken' ? { fault: 'conflict' } : { values: {} };
      }
      case 'DeletePortMapping': {
        const found = mappings.find((m) => m.protocol === action.protocol && m.externalPort === action.externalPort);
        if (!found) return { fault: 'no-such-entry' };
        this.state = { ...this.state, mappings: this.state.mappings.filter((m) => m !== found) };
        return { values: {} };
      }
      case 'GetSpecificPortMappingEntry':
        return entry(mappings.find((m) => m.protocol === action.protocol && m.externalPort === action.externalPort));
      case 'GetGenericPortMappingEntry': {
        const told = entry(mappings[action.index]);
        return 'fault' in told ? { fault: 'out-of-range' } : told;
      }
    }
  }

  /** Opens doors on the public side for what is mapped, and closes those of what has lapsed. */
  private async follow(): Promise<void> {
    const wanted = new Map(
      live(this.state, this.now())
        .filter((m) => m.protocol === 'tcp')
        .map((m) => [m.externalPort, m]),
    );
    for (const [port, door] of this.doors) {
      if (wanted.has(port)) continue;
      this.doors.delete(port);
      door.server.close();
    }
    for (const [port] of wanted) {
      const place = this.wiring.publicSide(port);
      if (this.doors.has(port) || !place) continue;
      const server = createServer({ pauseOnConnect: true }, (socket) => this.pass(socket, port));
      this.doors.set(port, { server, port: place.port });
      await new Promise<void>((resolve) =>
        server.once('error', () => resolve()).listen(place.port, place.host, resolve),
      );
    }
  }

  private pass(socket: TcpSocket, externalPort: number): void {
    this.open.add(socket);
    socket.once('close', () => this.open.delete(socket));
    socket.on('error', () => socket.destroy());
    const { faults } = this.state;
    const target = live(this.state, this.now()).find((m) => m.protocol === 'tcp' && m.externalPort === externalPort);
    const fromInside = this.wiring.who(socket.remoteAddress ?? '').startsWith('192.168.');
    // Dropped is not refused: the other side waits until it gives up.
    if (
      !target ||
      faults.firewall ||
      faults.carrierGrade ||
      faults.doubleNat ||
      (faults.noLoopback && fromInside) ||
      this.random() * 100 < faults.lossPercent
    )
      return;
    setTimeout(() => {
      const { host, port } = this.wiring.inside(target.internalAddress, target.internalPort);
      const inner = connect({ host, port });
      inner.once('connect', () => socket.pipe(inner).pipe(socket));
      inner.on('error', () => socket.resetAndDestroy());
      socket.once('close', () => inner.destroy());
    }, faults.slowMs);
  }
}

const isPort = (port: number): boolean => Number.isInteger(port) && port > 0 && port <= 65_535;
