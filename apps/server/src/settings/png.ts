import { crc32, inflateSync } from 'node:zlib';

// PNG (W3C Portable Network Graphics, third edition), as far as a small picture needs it.

/** §5.2: what every PNG begins with. */
const SIGNATURE = Buffer.from([0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a]);
/** Chunks that say how the picture looks; everything else that a file may carry, texts and places among it, is left out. */
const KEPT = new Set(['IHDR', 'PLTE', 'IDAT', 'IEND', 'tRNS', 'sRGB', 'gAMA', 'cHRM']);
/** §11.2.1: how many samples a pixel has, by colour type. */
const SAMPLES: Record<number, number> = { 0: 1, 2: 3, 3: 1, 4: 2, 6: 4 };

export interface Png {
  width: number;
  height: number;
  /** The same picture with nothing beside it. */
  bytes: Buffer;
}

interface Chunk {
  type: string;
  data: Buffer;
  whole: Buffer;
}

/**
 * Reads a PNG: every chunk's check value, and that there are as many bytes of picture as its size asks for.
 * @param most how large it may be; a larger one is not unpacked
 * @throws Error saying what is wrong with it
 */
export function readPng(file: Buffer, most: { width: number; height: number }): Png {
  if (!file.subarray(0, 8).equals(SIGNATURE)) throw new Error('it is no PNG');
  const chunks = chunksOf(file);
  const [head, last] = [chunks[0], chunks.at(-1)];
  if (head?.type !== 'IHDR' || head.data.length !== 13 || last?.type !== 'IEND') throw new Error('it is cut off');
  const [width, height] = [head.data.readUInt32BE(0), head.data.readUInt32BE(4)];
  if (width === 0 || height === 0 || width > most.width || height > most.height)
    throw new Error(`it has ${width} by ${height} pixels`);
  requirePicture(head.data, width, height, chunks);
  const kept = chunks.filter(({ type }) => KEPT.has(type));
  return { width, height, bytes: Buffer.concat([SIGNATURE, ...kept.map(({ whole }) => whole)]) };
}

/** §5.3: length, type, data and a CRC of type and data. */
function chunksOf(file: Buffer): Chunk[] {
  const chunks: Chunk[] = [];
  let at = SIGNATURE.length;
  while (at < file.length) {
    if (at + 12 > file.length) throw new Error('it is cut off');
    const end = at + 12 + file.readUInt32BE(at);
    if (end > file.length) throw new Error('it is cut off');
    const whole = file.subarray(at, end);
    if (crc32(whole.subarray(4, -4)) !== whole.readUInt32BE(whole.length - 4)) throw new Error('it is damaged');
    const type = whole.toString('latin1', 4, 8);
    // §5.4: a capital first letter is a chunk without which the picture cannot be drawn.
    if (/^[A-Z]/.test(type) && !KEPT.has(type)) throw new Error('it is of a kind that is not known');
    chunks.push({ type, data: whole.subarray(8, -4), whole });
    at = end;
    if (type === 'IEND') break;
  }
  if (at !== file.length) throw new Error('something comes after its end');
  return chunks;
}

/** §7.2, §9: each line is its pixels and one byte for its filter. One that is woven (§8) is a little longer. */
function requirePicture(head: Buffer, width: number, height: number, chunks: Chunk[]): void {
  const [depth, colour, woven] = [head.readUInt8(8), head.readUInt8(9), head.readUInt8(12)];
  const samples = SAMPLES[colour];
  if (!samples || ![1, 2, 4, 8, 16].includes(depth)) throw new Error('it is of a kind that is not known');
  const exact = height * (1 + Math.ceil((width * samples * depth) / 8));
  const packed = Buffer.concat(chunks.filter(({ type }) => type === 'IDAT').map(({ data }) => data));
  const unpacked = unpack(packed, 2 * exact + 64);
  if (woven === 0 ? unpacked !== exact : unpacked < exact) throw new Error('it is damaged');
}

function unpack(packed: Buffer, mostBytes: number): number {
  try {
    return inflateSync(packed, { maxOutputLength: mostBytes }).length;
  } catch {
    throw new Error('it is damaged');
  }
}
