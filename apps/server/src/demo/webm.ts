// A minimal WebM file (RFC 8794 EBML, RFC 9559 Matroska) whose frames are the key frames of WebP pictures: a lossy WebP
// holds exactly one VP8 frame (RFC 9649 §2.5), so no video encoder is needed to make a short clip.

/** @param frames lossy WebP pictures of the same size. @param frameMs time each is shown */
export function webm(frames: readonly Buffer[], width: number, height: number, frameMs: number): Buffer {
  const header = element(
    '1a45dfa3',
    text('4282', 'webm'),
    uint('4286', 1),
    uint('42f7', 1),
    uint('42f2', 4),
    uint('42f3', 8),
    uint('4287', 2),
    uint('4285', 2),
  );
  const about = element(
    '1549a966',
    uint('2ad7b1', 1_000_000),
    text('4d80', 'demo'),
    text('5741', 'demo'),
    float('4489', frames.length * frameMs),
  );
  const track = element(
    '1654ae6b',
    element(
      'ae',
      uint('d7', 1),
      uint('73c5', 1),
      uint('83', 1),
      text('86', 'V_VP8'),
      element('e0', uint('b0', width), uint('ba', height)),
    ),
  );
  const clusters: Buffer[] = [];
  // A block's time is a signed 16-bit offset from its cluster's.
  for (let i = 0; i < frames.length; i += 24) {
    const blocks = frames
      .slice(i, i + 24)
      .map((frame, n) =>
        element('a3', Buffer.from([0x81, (n * frameMs) >> 8, (n * frameMs) & 0xff, 0x80]), vp8Of(frame)),
      );
    clusters.push(element('1f43b675', uint('e7', i * frameMs), ...blocks));
  }
  return Buffer.concat([header, element('18538067', about, track, ...clusters)]);
}

/** The VP8 frame inside a lossy WebP (RFC 9649 §2.5: chunk "VP8 "). */
function vp8Of(webp: Buffer): Buffer {
  for (let at = 12; at + 8 <= webp.length;) {
    const size = webp.readUInt32LE(at + 4);
    if (webp.toString('ascii', at, at + 4) === 'VP8 ') return webp.subarray(at + 8, at + 8 + size);
    at += 8 + size + (size & 1);
  }
  throw new Error('not a lossy WebP');
}

function element(id: string, ...parts: Buffer[]): Buffer {
  const body = Buffer.concat(parts);
  // RFC 8794 §4: a size of eight octets, whose first bit pattern is 0000 0001.
  const size = Buffer.alloc(8);
  size.writeBigUInt64BE(BigInt(body.length) | (1n << 56n));
  return Buffer.concat([Buffer.from(id, 'hex'), size, body]);
}

function uint(id: string, value: number): Buffer {
  const b = Buffer.alloc(6);
  b.writeUIntBE(value, 0, 6);
  return element(id, b);
}
const text = (id: string, value: string): Buffer => element(id, Buffer.from(value, 'utf8'));
function float(id: string, value: number): Buffer {
  const b = Buffer.alloc(8);
  b.writeDoubleBE(value);
  return element(id, b);
}
