import type { Duplex } from 'node:stream';

/** A message on the line between the server and the program that makes pictures: a few values, then bytes. */
export interface Frame<T> {
  head: T;
  body: Buffer;
}

const LENGTHS_BYTES = 8;
/** A head is a few values; what claims to be longer is no head of ours. */
const HEAD_MOST_BYTES = 64 * 1024;

/** What stands before a body of that many bytes: both lengths (big-endian, four bytes each), then the head as JSON. */
export function frameHead(head: object, bodyBytes: number): Buffer {
  const text = Buffer.from(JSON.stringify(head));
  const lengths = Buffer.alloc(LENGTHS_BYTES);
  lengths.writeUInt32BE(text.length, 0);
  lengths.writeUInt32BE(bodyBytes, 4);
  return Buffer.concat([lengths, text]);
}

/** Calls `heard` for each whole frame. A line that says something else, or too much, is hung up on. */
export function readFrames<T>(line: Duplex, bodyMostBytes: number, heard: (frame: Frame<T>) => void): void {
  let pieces: Buffer[] = [];
  let held = 0;
  let wanted = LENGTHS_BYTES;
  line.on('data', (piece: Buffer) => {
    pieces.push(piece);
    held += piece.length;
    while (held >= wanted) {
      const all = Buffer.concat(pieces);
      const headBytes = all.readUInt32BE(0);
      const bodyBytes = all.readUInt32BE(4);
      if (headBytes > HEAD_MOST_BYTES || bodyBytes > bodyMostBytes)
        return void line.destroy(new Error('frame too large'));
      const whole = LENGTHS_BYTES + headBytes + bodyBytes;
      pieces = [all];
      wanted = whole;
      if (held < whole) return;
      const bodyAt = LENGTHS_BYTES + headBytes;
      const rest = all.subarray(whole);
      pieces = [rest];
      held = rest.length;
      wanted = LENGTHS_BYTES;
      heard({ head: JSON.parse(all.toString('utf8', LENGTHS_BYTES, bodyAt)) as T, body: all.subarray(bodyAt, whole) });
    }
  });
}
