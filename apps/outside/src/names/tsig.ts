import { createHmac, timingSafeEqual } from 'node:crypto';
import { decodeTsig, encode, encodeTsig, TYPE, tsigVariables, u16, type Message, type Tsig } from './codec.js';

/** Keys by name (small letters, without the dot at the end). */
export type TsigKeys = ReadonlyMap<string, Buffer>;
export type TsigVerdict =
  | { outcome: 'none' }
  | { outcome: 'good'; tsig: Tsig }
  | { outcome: 'bad-key' | 'bad-signature' | 'bad-time'; tsig: Tsig };

/** RFC 8945 §6, table 3: the algorithm that must be there. */
const ALGORITHM = 'hmac-sha256';
/** RFC 8945 §5.2, error values. */
export const TSIG_ERROR = { 'bad-signature': 16, 'bad-key': 17, 'bad-time': 18 } as const;

/** Checks the signature of a request (RFC 8945 §5.2: key, then signature, then time). */
export function verifyTsig(
  bytes: Buffer,
  message: Message & { lastRecordAt: number },
  keys: TsigKeys,
  nowSeconds: number,
): TsigVerdict {
  const last = message.additionals.at(-1);
  if (last?.type !== TYPE.TSIG) return { outcome: 'none' };
  const tsig = decodeTsig(last);
  const key = keys.get(tsig.keyName);
  if (!key || tsig.algorithm !== ALGORITHM) return { outcome: 'bad-key', tsig };
  // The message as it was before it was signed: without the TSIG record, with its own id.
  const unsigned = Buffer.from(bytes.subarray(0, message.lastRecordAt));
  unsigned.writeUInt16BE(tsig.originalId, 0);
  unsigned.writeUInt16BE(message.additionals.length - 1, 10);
  const mac = createHmac('sha256', key).update(unsigned).update(tsigVariables(tsig)).digest();
  if (mac.length !== tsig.mac.length || !timingSafeEqual(mac, tsig.mac)) return { outcome: 'bad-signature', tsig };
  return Math.abs(nowSeconds - tsig.signedAtSeconds) > tsig.fudgeSeconds
    ? { outcome: 'bad-time', tsig }
    : { outcome: 'good', tsig };
}

/** Signs an answer (RFC 8945 §5.3: over the request's MAC, the answer and its variables). */
export function signAnswer(answer: Message, request: Tsig, key: Buffer, nowSeconds: number): Buffer {
  const tsig: Tsig = {
    keyName: request.keyName,
    algorithm: ALGORITHM,
    signedAtSeconds: nowSeconds,
    fudgeSeconds: 300,
    mac: Buffer.alloc(0),
    originalId: answer.id,
    error: 0,
    other: Buffer.alloc(0),
  };
  const mac = createHmac('sha256', key)
    .update(u16(request.mac.length))
    .update(request.mac)
    .update(encode(answer))
    .update(tsigVariables(tsig))
    .digest();
  return encode({ ...answer, additionals: [...answer.additionals, encodeTsig({ ...tsig, mac })] });
}

/** An answer to a request whose signature was refused: unsigned, with the reason (RFC 8945 §5.2). */
export function refuseTsig(
  answer: Message,
  verdict: Extract<TsigVerdict, { tsig: Tsig }> & { outcome: keyof typeof TSIG_ERROR },
  nowSeconds: number,
): Buffer {
  const tsig: Tsig = {
    ...verdict.tsig,
    mac: Buffer.alloc(0),
    signedAtSeconds: nowSeconds,
    error: TSIG_ERROR[verdict.outcome],
    other: Buffer.alloc(0),
  };
  return encode({ ...answer, additionals: [...answer.additionals, encodeTsig(tsig)] });
}
