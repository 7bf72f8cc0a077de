/** A small repeatable generator (mulberry32), so that the demo office is the same every time. Never for secrets. */
export class Random {
  constructor(private state: number) {}

  /** 0 or more, below 1. */
  next(): number {
    this.state = (this.state + 0x6d2b79f5) | 0;
    let t = Math.imul(this.state ^ (this.state >>> 15), 1 | this.state);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  }

  /** A whole number from `low` to `high`, both included. */
  whole(low: number, high: number): number {
    return low + Math.floor(this.next() * (high - low + 1));
  }

  pick<T>(list: readonly T[]): T {
    return list[this.whole(0, list.length - 1)] as T;
  }

  bytes(length: number): Buffer {
    const buffer = Buffer.allocUnsafe(length);
    let i = 0;
    for (; i + 4 <= length; i += 4) buffer.writeUInt32LE((this.next() * 4294967296) >>> 0, i);
    for (; i < length; i += 1) buffer[i] = this.whole(0, 255);
    return buffer;
  }

  /** A UUID of version 7 (RFC 9562 §5.7) for a moment. */
  uuid(at: number): string {
    const b = this.bytes(16);
    b.writeUIntBE(at, 0, 6);
    b[6] = 0x70 | ((b[6] as number) & 0x0f);
    b[8] = 0x80 | ((b[8] as number) & 0x3f);
    const hex = b.toString('hex');
    return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
  }
}
