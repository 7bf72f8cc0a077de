import type { Way } from '@quay/probe';
import { isSameAddress } from '@quay/core';
import { createSocket } from 'node:dgram';
import { lookup } from 'node:dns/promises';
import { request, type IncomingMessage } from 'node:http';
import { connect, isIP, type Socket } from 'node:net';
import { connect as tlsConnect, rootCertificates } from 'node:tls';
import { Problem } from './problems/problem.js';

/** One line of a wiring table: an address and port (null: any), and where that is on this machine. */
export interface WiredRoute {
  transport: 'tcp' | 'udp';
  address: string;
  port: number | null;
  host: string;
  toPort: number | null;
  offset: number;
}
export interface Wiring {
  /** The address that connections come from. */
  localAddress: string;
  routes: WiredRoute[];
}

export interface Place {
  host: string;
  port: number;
  localAddress?: string;
}

/** Datagrams are sent to addresses, and answers are told apart by them: a name is looked up before. */
async function resolved(place: Place | null): Promise<Place | null> {
  if (!place || isIP(place.host)) return place;
  const found = await lookup(place.host, { order: 'ipv4first' }).catch(() => null);
  return found && { ...place, host: found.address };
}

/** Whether an answer comes from the machine that was asked; an address with its interface has one spelling. */
const isOf = (from: string, asked: string): boolean => from === asked || isSameAddress(from, asked);

/** Answers to a search that are looked at. */
const MOST_ANSWERS = 50;

/**
 * How the server gets to other machines of its networks. As it is in an office: where addresses say. Under a wiring
 * table, addresses of a simulated world lead to places on this machine, and to nowhere when they are not in it.
 */
export class Dialler {
  /** @param roots trusted besides the usual ones, as PEM */
  constructor(
    private readonly wiring: Wiring | null,
    private readonly roots: readonly string[] = [],
  ) {}

  place(transport: 'tcp' | 'udp', address: string, port: number): Place | null {
    if (!this.wiring || address.startsWith('127.') || !isIP(address)) return { host: address, port };
    const route = this.wiring.routes.find(
      (r) => r.transport === transport && r.address === address && (r.port === null || r.port === port),
    );
    return route
      ? { host: route.host, port: route.toPort ?? port + route.offset, localAddress: this.wiring.localAddress }
      : null;
  }

  /** For measuring from here. @param resolvers name servers, asked at port 53; null: those of this machine */
  way(resolvers: string[] | null, port = 53): Way {
    const places = resolvers?.map((address) => this.place('udp', address, port)).filter((p): p is Place => p !== null);
    return {
      resolvers: places
        ? places.map(({ host, port: at }) => (isIP(host) === 6 ? `[${host}]:${at}` : `${host}:${at}`))
        : null,
      place: (address, port) => this.place('tcp', address, port),
    };
  }

  /**
   * A connection. @throws Error when there is no way, or none in time
   * @param from the address of this machine that it comes from; not said: the machine chooses
   */
  connect(address: string, port: number, timeoutMs: number, from?: string): Promise<Socket> {
    const place = this.place('tcp', address, port);
    if (!place) return Promise.reject(new Error(`there is no way to ${address} from here`));
    return new Promise((resolve, reject) => {
      const socket = connect({ ...place, ...(from && { localAddress: from }) });
      const timer = setTimeout(
        () => socket.destroy(new Error(`${address} port ${port} did not answer within ${timeoutMs / 1000} s`)),
        timeoutMs,
      );
      socket.once('error', (error) => {
        clearTimeout(timer);
        reject(error);
      });
      socket.once('connect', () => {
        clearTimeout(timer);
        resolve(socket);
      });
    });
  }

  /**
   * Sends a datagram, again after each of the waits, and takes the first answer that `read` understands; others are
   * dropped. Only answers of the very machine that was asked are looked at. @returns null when none came
   */
  async exchange<T>(
    address: string,
    port: number,
    bytes: Uint8Array,
    read: (answer: Buffer) => T | null,
    waitsMs: readonly number[] = [250, 500, 1000],
    localAddress?: string,
  ): Promise<T | null> {
    const place = await resolved(this.place('udp', address, port));
    if (!place) return null;
    const socket = createSocket(isIP(place.host) === 6 ? 'udp6' : 'udp4');
    try {
      return await new Promise<T | null>((resolve) => {
        let timer: NodeJS.Timeout | undefined;
        const end = (value: T | null) => {
          clearTimeout(timer);
          resolve(value);
        };
        socket.on('error', () => end(null));
        socket.on('message', (answer, from) => {
          if (from.port !== place.port || !isOf(from.address, place.host)) return;
          const value = read(answer);
          if (value !== null) end(value);
        });
        const send = (round: number): void => {
          const wait = waitsMs[round];
          if (wait === undefined) return end(null);
          socket.send(bytes, place.port, place.host, (error) => error && end(null));
          timer = setTimeout(() => send(round + 1), wait);
        };
        socket.bind(0, place.localAddress ?? localAddress, () => send(0));
      });
    } finally {
      socket.close();
    }
  }

  /**
   * The same over TCP, as name servers speak it: each message behind its length (RFC 1035 §4.2.2). @returns null when
   * nothing that is understood came in time
   */
  async exchangeStream<T>(
    address: string,
    port: number,
    bytes: Uint8Array,
    read: (answer: Buffer) => T | null,
    timeoutMs: number,
  ): Promise<T | null> {
    const socket = await this.connect(address, port, timeoutMs).catch(() => null);
    if (!socket) return null;
    return new Promise((resolve) => {
      let held = Buffer.alloc(0);
      const end = (value: T | null) => {
        clearTimeout(timer);
        socket.destroy();
        resolve(value);
      };
      const timer = setTimeout(() => end(null), timeoutMs);
      socket.on('error', () => end(null));
      socket.on('close', () => end(null));
      socket.on('data', (piece: Buffer) => {
        held = Buffer.concat([held, piece]);
        const length = held.length < 2 ? Infinity : held.readUInt16BE(0);
        if (held.length >= 2 + length) end(read(held.subarray(2, 2 + length)));
      });
      const length = Buffer.alloc(2);
      length.writeUInt16BE(bytes.length, 0);
      socket.write(Buffer.concat([length, bytes]));
    });
  }

  /**
   * Asks a group of machines (multicast), twice because datagrams get lost, and takes what comes back in a while: each
   * answers from an address of its own.
   * @param from the address of this machine on the network that is asked
   * @param enough whether what was found will do, so that no more is waited for
   */
  async search<T>(
    group: string,
    port: number,
    bytes: Uint8Array,
    read: (answer: Buffer) => T | null,
    { from, waitMs, enough }: { from: string; waitMs: number; enough: (found: readonly T[]) => boolean },
  ): Promise<T[]> {
    const place = this.place('udp', group, port);
    if (!place) return [];
    const socket = createSocket('udp4');
    const found: T[] = [];
    const timers: NodeJS.Timeout[] = [];
    try {
      await new Promise<void>((resolve) => {
        socket.on('error', () => resolve());
        socket.on('message', (answer) => {
          const value = read(answer);
          if (value !== null && found.length < MOST_ANSWERS) found.push(value);
          if (enough(found)) resolve();
        });
        const send = () => socket.send(bytes, place.port, place.host, (error) => error && resolve());
        socket.bind(0, place.localAddress ?? from, () => {
          timers.push(setTimeout(send, waitMs / 4), setTimeout(resolve, waitMs));
          try {
            if (place.host === group) socket.setMulticastInterface(from);
            send();
          } catch {
            // There is no way to a group from there.
            resolve();
          }
        });
      });
    } finally {
      // A socket that is closed throws when it is to send.
      for (const timer of timers) clearTimeout(timer);
      socket.close();
    }
    return found;
  }

  /**
   * A small request over HTTP, or HTTPS with a certificate that holds. @throws Error when no answer came in time, or
   * more than `most` bytes
   * @param via where to connect in place of the host that is named, and from which address of this machine
   */
  async http(
    method: string,
    url: string,
    headers: Record<string, string>,
    body: string | null,
    timeoutMs: number,
    most = 1_000_000,
    via?: { address: string; from?: string },
  ): Promise<{ status: number; headers: IncomingMessage['headers']; text: string }> {
    const { hostname: written, port, protocol, pathname, search, host } = new URL(url);
    const hostname = written.replace(/^\[|\]$/g, '');
    if (protocol !== 'http:' && protocol !== 'https:')
      throw new Problem('invalid', 'reach.not-http', `${url} is neither http nor https.`);
    const ends = Date.now() + timeoutMs;
    const toPort = Number(port || (protocol === 'https:' ? 443 : 80));
    const plain = await this.connect(via?.address ?? hostname, toPort, timeoutMs, via?.from);
    const socket =
      protocol === 'https:'
        ? tlsConnect({
            socket: plain,
            ...(!isIP(hostname) && { servername: hostname }),
            host: hostname,
            ca: [...rootCertificates, ...this.roots],
          })
        : plain;
    return new Promise((resolve, reject) => {
      const req = request(
        {
          createConnection: () => socket,
          method,
          path: pathname + search,
          headers: {
            host,
            connection: 'close',
            ...headers,
            ...(body !== null && { 'content-length': String(Buffer.byteLength(body)) }),
          },
        },
        (res) => {
          let text = '';
          res.on('data', (piece: Buffer) => {
            text += piece.toString('utf8');
            if (text.length <= most) return;
            clearTimeout(timer);
            reject(new Error(`${host} sends more than it should`));
            req.destroy();
          });
          res.on('end', () => {
            clearTimeout(timer);
            resolve({ status: res.statusCode ?? 0, headers: res.headers, text });
          });
          res.on('error', reject);
        },
      );
      const timer = setTimeout(
        () => req.destroy(new Error(`${host} did not answer within ${timeoutMs / 1000} s`)),
        Math.max(1, ends - Date.now()),
      );
      req.on('error', (error) => {
        clearTimeout(timer);
        reject(error);
      });
      req.end(body ?? undefined);
    });
  }
}
