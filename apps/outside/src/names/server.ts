import { createSocket, type Socket } from 'node:dgram';
import { createServer, type AddressInfo, type Server, type Socket as TcpSocket } from 'node:net';
import { BadMessage, decode, encode, OPCODE, RCODE, u16, type Message } from './codec.js';
import { answerQuery, applyUpdate, overlaid, isUpdate, replyTo, type NameFaults, type Zone } from './state.js';
import { refuseTsig, signAnswer, verifyTsig, type TsigKeys } from './tsig.js';

/** RFC 1035 §4.2.1: what fits into a datagram when the asker says nothing else. */
const DATAGRAM_MOST = 512;
const MOST_KEPT_SECONDS = 86_400;
const MOST_KEPT = 10_000;

/** A name server on loopback: authoritative for its zones over UDP and TCP, updated by whoever holds its key. */
export class NameServer {
  zones: readonly Zone[];
  faults: NameFaults = { silent: false, failing: false, caches: false };
  private kept = new Map<string, { answer: Message; until: number }>();
  private udp: Socket | null = null;
  private tcp: Server | null = null;
  private readonly open = new Set<TcpSocket>();

  /** @param upstream what it answers where its own records say nothing, as the name server of a network does */
  constructor(
    zones: readonly Zone[],
    private readonly keys: TsigKeys,
    private readonly upstream: (() => readonly Zone[]) | null = null,
    private readonly nowSeconds = () => Math.floor(Date.now() / 1000),
  ) {
    this.zones = zones;
  }

  /** Listens on the same port for both. @returns the port */
  async listen(host: string, port: number): Promise<number> {
    this.tcp = createServer((socket) => this.serve(socket));
    await new Promise<void>((resolve, reject) => this.tcp?.once('error', reject).listen(port, host, resolve));
    const chosen = (this.tcp.address() as AddressInfo).port;
    const udp = createSocket(host.includes(':') ? 'udp6' : 'udp4');
    udp.on('message', (bytes, from) => {
      const answer = this.answer(bytes);
      if (answer) udp.send(answer.length > DATAGRAM_MOST ? truncated(bytes) : answer, from.port, from.address);
    });
    await new Promise<void>((resolve, reject) => udp.once('error', reject).bind(chosen, host, resolve));
    this.udp = udp;
    return chosen;
  }

  async close(): Promise<void> {
    for (const socket of this.open) socket.destroy();
    await new Promise<void>((resolve) => (this.udp ? this.udp.close(() => resolve()) : resolve()));
    await new Promise<void>((resolve) => (this.tcp ? this.tcp.close(() => resolve()) : resolve()));
  }

  /** The answer to a request; null when it gets none. */
  answer(bytes: Buffer): Buffer | null {
    if (this.faults.silent) return null;
    let message: ReturnType<typeof decode>;
    try {
      message = decode(bytes);
    } catch (error) {
      if (!(error instanceof BadMessage) || bytes.length < 2) return null;
      return encode({
        id: bytes.readUInt16BE(0),
        response: true,
        opcode: 0,
        authoritative: false,
        truncated: false,
        recursionDesired: false,
        rcode: RCODE.FORMERR,
        questions: [],
        answers: [],
        authorities: [],
        additionals: [],
      });
    }
    if (message.response) return null;
    const reply = replyTo(message);
    if (this.faults.failing) return encode({ ...reply, rcode: RCODE.SERVFAIL });
    const verdict = verifyTsig(bytes, message, this.keys, this.nowSeconds());
    if (verdict.outcome !== 'none' && verdict.outcome !== 'good')
      return refuseTsig(
        { ...reply, rcode: RCODE.NOTAUTH },
        verdict as Parameters<typeof refuseTsig>[1],
        this.nowSeconds(),
      );
    const answer = this.decide(message, verdict.outcome === 'good');
    const key = verdict.outcome === 'good' ? this.keys.get(verdict.tsig.keyName) : undefined;
    return verdict.outcome === 'good' && key
      ? signAnswer(answer, verdict.tsig, key, this.nowSeconds())
      : encode(answer);
  }

  private decide(message: Message, signed: boolean): Message {
    if (isUpdate(message)) {
      if (!signed) return { ...replyTo(message), rcode: RCODE.REFUSED };
      const { answer, zones } = applyUpdate(this.zones, message);
      this.zones = zones;
      return answer;
    }
    if (message.opcode !== OPCODE.QUERY) return { ...replyTo(message), rcode: RCODE.NOTIMP };
    if (!this.upstream) return answerQuery(this.zones, message);
    return this.remembered(message, () => answerQuery(overlaid(this.upstream?.() ?? [], this.zones), message));
  }

  private remembered(message: Message, ask: () => Message): Message {
    if (!this.faults.caches) {
      this.kept.clear();
      return ask();
    }
    const [question] = message.questions;
    const key = `${question?.name} ${question?.type}`;
    const held = this.kept.get(key);
    if (held && held.until > this.nowSeconds()) return { ...held.answer, id: message.id };
    const answer = ask();
    const ttl = Math.min(...[...answer.answers, ...answer.authorities].map((r) => r.ttl), MOST_KEPT_SECONDS);
    if (this.kept.size < MOST_KEPT) this.kept.set(key, { answer, until: this.nowSeconds() + ttl });
    return answer;
  }

  /** RFC 1035 §4.2.2: two bytes of length before each message. */
  private serve(socket: TcpSocket): void {
    this.open.add(socket);
    let held = Buffer.alloc(0);
    socket.setTimeout(10_000, () => socket.destroy());
    socket.on('data', (piece: Buffer) => {
      held = Buffer.concat([held, piece]);
      while (held.length >= 2 && held.length >= 2 + held.readUInt16BE(0)) {
        const length = held.readUInt16BE(0);
        const answer = this.answer(held.subarray(2, 2 + length));
        held = held.subarray(2 + length);
        if (answer) socket.write(Buffer.concat([u16(answer.length), answer]));
      }
    });
    socket.on('error', () => socket.destroy());
    socket.on('close', () => this.open.delete(socket));
  }
}

/** The answer that says: ask again over TCP. */
function truncated(request: Buffer): Buffer {
  return encode({ ...replyTo(decode(request)), truncated: true });
}
