import type { ReachConfig } from '../../apps/server/src/platform/config.js';
import type { Machine, Running } from './net.js';
import {
  FIREWALL,
  GUESTS,
  newCable,
  OFFICE,
  SIX,
  openNetwork,
  speaking,
  WORLD,
  type Line,
  type Network,
  type RouterSpeaks,
} from './network.js';
import { openLabOffice, OfficeAddress, type LabOffice } from './office.js';
import {
  HOST,
  startAuthority,
  startForwarder,
  startNames,
  startProbe,
  startResolver,
  startSecondNames,
  startStun,
  TSIG,
  ZONE,
  type Authority,
  type Strictness,
  type Zone,
} from './services.js';

export interface LabWanted {
  /** Null: nothing. */
  router: RouterSpeaks | null;
  line?: Line;
  /** None is there without. */
  authority?: Strictness | null;
  /** What stands in the zone already. */
  records?: string[];
  /** A second name server knows the zone, and hears of changes late. */
  secondNames?: boolean;
  reach?: Partial<ReachConfig>;
  /** Somebody looks from every vantage; a machine of the office stands for what is at the end of a tunnel. */
  everywhere?: boolean;
}

/** A resolver of the world, and the one of the router, which asks it. */
const startResolvers = async (network: Network, isDouble: boolean): Promise<Running[]> => [
  await startResolver(network, isDouble),
  await startForwarder(network),
];

/** An office behind a router, with the product serving it, and everything in the world that it needs. */
export class Lab {
  private constructor(
    readonly network: Network,
    readonly office: LabOffice,
    /** https://files.saltmarsh.example, by a mapping on the router, for visitors. */
    readonly address: OfficeAddress,
    private theAuthority: Authority | null,
    private readonly strict: Strictness | null,
    private router: Running | null,
    private readonly speaks: RouterSpeaks | null,
    private readonly zone: Required<Zone>,
    private names: Running,
    private resolvers: Running[],
    private stun: Running,
    /** Trusted besides the authority's, by the product and by curl. */
    private readonly roots: readonly string[],
  ) {}

  static async open({
    router: speaks,
    line,
    authority: strict = null,
    records = [],
    secondNames: isDouble = false,
    reach,
    everywhere = false,
  }: LabWanted): Promise<Lab> {
    const network = await openNetwork(line);
    try {
      const zone = { records, isDouble };
      const [probe, router, names, stun] = await Promise.all([
        // An office without an IPv4 address of its own asks its probe over IPv6.
        startProbe(network.world, line?.shared ? SIX.elsewhere : WORLD.elsewhere),
        speaks && speaking(network, speaks),
        startNames(network, zone),
        startStun(network),
      ]);
      if (isDouble) await startSecondNames(network);
      const resolvers = await startResolvers(network, isDouble);
      const probes = {
        outside: probe,
        ...(everywhere && {
          guest: await startProbe(network.guest, GUESTS.guest),
          tunnel: await startProbe(network.desk, OFFICE.desk),
        }),
      };
      const authority = strict ? await startAuthority(network, strict) : null;
      const said = {
        // Router, own address, doors and name servers are found: no file says them.
        probes,
        ...(authority && { acmeDirectory: authority.directory, roots: authority.roots }),
        ...reach,
      };
      const office = await openLabOffice(network, said, { server: network.server, cable: newCable() });
      const address = await OfficeAddress.add(office.iris, HOST);
      const theirs = [authority, strict, router, speaks, zone, names, resolvers, stun] as const;
      return new Lab(network, office, address, ...theirs, reach?.roots ?? []);
    } catch (error) {
      await network.close();
      throw error;
    }
  }

  /** The router is switched off and on: it knows nothing of what it mapped. */
  async restartRouter(): Promise<void> {
    await this.router?.end();
    this.network.router.rules(FIREWALL);
    this.router = this.speaks && (await speaking(this.network, this.speaks));
  }

  /** What resolvers remember is forgotten, as after its time. */
  async forgetNames(): Promise<void> {
    await Promise.all(this.resolvers.map((running) => running.end()));
    this.resolvers = await startResolvers(this.network, this.zone.isDouble);
  }

  get authority(): Authority | null {
    return this.theAuthority;
  }

  /** The name server ends and begins again, with the zone as its file has it. */
  async restartNames(): Promise<void> {
    await this.names.end('SIGKILL');
    this.names = await startNames(this.network, this.zone);
  }

  /** An authority of the same name, which knows nobody and has other roots. */
  async restartAuthority(): Promise<void> {
    await this.theAuthority?.running.end('SIGKILL');
    this.theAuthority = this.strict && (await startAuthority(this.network, this.strict));
  }

  async restartStun(): Promise<void> {
    await this.stun.end('SIGKILL');
    this.stun = await startStun(this.network);
  }

  /** The name server of the zone, and the key by which the office may change it. */
  async tellNameServer(part: Record<string, unknown> = {}): Promise<void> {
    const asked = { address: WORLD.names, zone: ZONE, keyName: TSIG.name, secret: TSIG.secret, ...part };
    const { status, body } = await this.office.iris.ask('PUT', '/api/reach/name-servers/public', asked);
    if (status >= 300) throw new Error(`no name server: ${body.detail}`);
  }

  /**
   * What somebody elsewhere finds at a port, by curl: status, and what is wrong with the certificate (0: nothing). They
   * trust the authority's roots.
   * @param at the line, unless the name is to be looked up (null)
   */
  async fromOutside(
    port: number,
    at: string | null = WORLD.line,
    host = HOST,
  ): Promise<{ status: number; wrong: number }> {
    return this.seenFrom(this.network.world, port, at, host);
  }

  /** The same, found by curl on any machine. */
  async seenFrom(
    machine: Machine,
    port = 443,
    at: string | null = null,
    host = HOST,
  ): Promise<{ status: number; wrong: number }> {
    const roots = machine.file('roots.pem', [...(this.authority?.roots ?? []), ...this.roots].join('\n'));
    const { out } = await machine.ask(
      'curl',
      ...['-sm', '5', '-o', '/dev/null', '-w', '%{http_code} %{ssl_verify_result}'],
      ...(port === 80 ? [] : this.authority || this.roots.length > 0 ? ['--cacert', roots] : ['-k']),
      ...(at === null ? [] : ['--resolve', `${host}:${port}:${at.includes(':') ? `[${at}]` : at}`]),
      // A visitor's page is the same for every link.
      `${port === 80 ? 'http' : 'https'}://${host}:${port}/s/${'A'.repeat(22)}`,
    );
    const [status, wrong] = out.split(' ').map(Number) as [number, number];
    return { status, wrong };
  }

  /** The serial number of the certificate that is shown elsewhere, by OpenSSL. */
  async serial(): Promise<string> {
    const shown = `openssl s_client -connect ${WORLD.line}:443 -servername ${HOST} </dev/null 2>/dev/null`;
    return (await this.network.world.must('sh', '-c', `${shown} | openssl x509 -noout -serial`)).trim();
  }

  async close(): Promise<void> {
    await this.office.close();
    await this.network.close();
  }
}
