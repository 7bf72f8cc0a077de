import { Inject, Injectable } from '@nestjs/common';
import type { NameServerSettings, ReachNetwork } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Problem } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';
import { OtherNamesService } from './other-names.service.js';
import { decodeUpdateAnswer, encodeUpdate, type RecordChange } from './protocols/dns-update.js';

export type Network = 'public' | 'office' | 'guest';
/** RFC 2136 says nothing of waiting; three tries in four seconds. */
const UPDATE_WAITS_MS = [800, 1200, 2000];
const UPDATE_STREAM_MS = 4000;

interface NameServerRow {
  network: Network;
  address: string;
  port: number;
  zone: string;
  keyName: string;
  secretSealed: Buffer;
}

/** Name servers that take updates, each with its key, and the updates themselves. */
@Injectable()
export class NameServersService {
  constructor(
    private readonly db: DataSource,
    private readonly dialler: Dialler,
    private readonly others: OtherNamesService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Without the secrets, which are never told. */
  async list(): Promise<ReachNetwork['nameServers']> {
    return (await this.rows()).map(({ secretSealed: _, ...shown }) => shown);
  }

  async keep(tx: EntityManager, network: Network, s: NameServerSettings): Promise<void> {
    await tx.query(
      `INSERT INTO name_server (network, address, port, zone, key_name, secret_sealed) VALUES ($1, $2, $3, $4, $5, $6)
       ON CONFLICT (network) DO UPDATE SET address = $2, port = $3, zone = $4, key_name = $5, secret_sealed = $6`,
      [network, s.address, s.port, s.zone, s.keyName, seal(this.config.sealingKey, s.secret)],
    );
  }

  /** Whether a name can be changed on a network's name server. */
  async canUpdate(network: Network, name: string, type: RecordChange['type'] = 'A'): Promise<boolean> {
    if ((await this.rows()).some((r) => r.network === network && inZone(name, r.zone))) return true;
    return network === 'public' && this.others.can(name, type);
  }

  /** Changes records. @throws Problem reach.no-name-server, reach.update-refused, reach.name-server-silent */
  async update(network: Network, changes: readonly RecordChange[]): Promise<void> {
    const server = (await this.rows()).find((r) => r.network === network);
    if (!server || !changes.every((c) => inZone(c.name, server.zone))) {
      const can = await Promise.all(changes.map((c) => this.others.can(c.name, c.type)));
      if (network === 'public' && can.every(Boolean)) return this.others.update(changes);
      throw new Problem(
        'conflict',
        'reach.no-name-server',
        `No name server of the ${network} network is known that takes updates for ${changes[0]?.name}.`,
      );
    }
    const key = {
      name: server.keyName,
      secret: Buffer.from(unseal(this.config.sealingKey, server.secretSealed), 'base64'),
    };
    // The machine's own clock, also where this product's is moved: the other side has one too.
    const seconds = () => Math.floor(Date.now() / 1000);
    const { bytes, id, mac } = encodeUpdate(server.zone, changes, key, seconds());
    const { address, port } = server;
    const read = (received: Buffer) => decodeUpdateAnswer(received, id, mac, key, seconds());
    // Where datagrams do not come through, the same is asked over a connection (RFC 7766).
    const answer =
      (await this.dialler.exchange(address, port, bytes, read, UPDATE_WAITS_MS)) ??
      (await this.dialler.exchangeStream(address, port, bytes, read, UPDATE_STREAM_MS));
    if (!answer)
      throw new Problem(
        'unavailable',
        'reach.name-server-silent',
        `The name server ${server.address} does not answer.`,
      );
    if (answer.outcome === 'not-signed')
      throw new Problem(
        'conflict',
        'reach.update-forged',
        `An answer came in the name of ${server.address}, and its signature does not hold.`,
      );
    if (answer.outcome === 'refused')
      throw new Problem(
        'conflict',
        'reach.update-refused',
        `The name server ${server.address} refuses the update (${answer.code}).${answer.code === 'BADKEY' || answer.code === 'BADSIG' ? ' The key is another.' : ''}${answer.code === 'BADTIME' ? ' Its clock and this one differ by more than five minutes.' : ''}`,
      );
  }

  private rows(): Promise<NameServerRow[]> {
    return this.db.query(
      `SELECT network, address, port, zone, key_name AS "keyName", secret_sealed AS "secretSealed" FROM name_server
        ORDER BY network DESC`,
    );
  }
}

const inZone = (name: string, zone: string): boolean => name === zone || name.endsWith(`.${zone}`);
