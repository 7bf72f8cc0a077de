import { PNG } from 'pngjs';
import sharp from 'sharp';
import { crc32, deflateSync } from 'node:zlib';
import { describe, expect, it } from 'vitest';
import { readPng } from './png.js';

const MOST = { width: 800, height: 400 };

function pictureOf(width: number, height: number): Buffer {
  const png = new PNG({ width, height });
  for (let i = 0; i < png.data.length; i += 1) png.data[i] = (i * 37) % 256;
  return PNG.sync.write(png);
}

function chunk(type: string, data: Buffer): Buffer {
  const body = Buffer.concat([Buffer.from(type, 'latin1'), data]);
  const [length, check] = [Buffer.alloc(4), Buffer.alloc(4)];
  length.writeUInt32BE(data.length);
  check.writeUInt32BE(crc32(body));
  return Buffer.concat([length, body, check]);
}

/** With a chunk after the first, which is 8 + 25 bytes from the start. */
const withChunk = (png: Buffer, added: Buffer): Buffer => Buffer.concat([png.subarray(0, 33), added, png.subarray(33)]);
const head = (width: number, height: number): Buffer => {
  const data = Buffer.alloc(13);
  data.writeUInt32BE(width, 0);
  data.writeUInt32BE(height, 4);
  data.set([8, 6, 0, 0, 0], 8);
  return data;
};

describe('a PNG', () => {
  it.each([
    ['true colour', { palette: false }, 3],
    ['with transparency', { palette: false }, 4],
    ['with a palette', { palette: true, colours: 16 }, 4],
    ['woven', { progressive: true }, 4],
  ] as const)('that libvips wrote, %s, is read, and drawn the same by it afterwards', async (_, how, channels) => {
    const raw = Buffer.from(Array.from({ length: 61 * 17 * channels }, (__, i) => (i * 91) % 256));
    const file = await sharp(raw, { raw: { width: 61, height: 17, channels } })
      .withMetadata({ exif: { IFD0: { Copyright: 'Saltmarsh' } } })
      .png(how)
      .toBuffer();
    const read = readPng(file, MOST);
    expect([read.width, read.height]).toEqual([61, 17]);
    const pixels = (bytes: Buffer) => sharp(bytes).ensureAlpha().raw().toBuffer();
    expect((await pixels(read.bytes)).equals(await pixels(file))).toBe(true);
    expect(read.bytes.includes('Saltmarsh')).toBe(false);
  });
  it('is kept without what says more than the picture', () => {
    const plain = pictureOf(20, 10);
    const talkative = withChunk(plain, chunk('tEXt', Buffer.from('Place\0Mill Lane')));
    expect(readPng(talkative, MOST).bytes.equals(readPng(plain, MOST).bytes)).toBe(true);
  });
  it('is refused when it is something else, damaged, cut off, too large, or carries more', () => {
    const plain = pictureOf(20, 10);
    const refused = (file: Buffer) => {
      try {
        readPng(file, MOST);
        return 'read';
      } catch (error) {
        return (error as Error).message;
      }
    };
    expect(refused(Buffer.from('<svg xmlns="http://www.w3.org/2000/svg"/>'))).toBe('it is no PNG');
    expect(refused(Buffer.alloc(0))).toBe('it is no PNG');
    const flipped = Buffer.from(plain);
    flipped[50] = (flipped[50] as number) ^ 1;
    expect(refused(flipped)).toBe('it is damaged');
    for (let length = 8; length < plain.length; length += 1)
      expect(refused(plain.subarray(0, length))).toMatch(/cut off|damaged/);
    expect(refused(Buffer.concat([plain, Buffer.from('more')]))).toBe('something comes after its end');
    expect(refused(pictureOf(801, 10))).toBe('it has 801 by 10 pixels');
    expect(refused(withChunk(plain, chunk('ABCD', Buffer.alloc(4))))).toBe('it is of a kind that is not known');
  });
  it('that unpacks to far more than its size says is not unpacked', () => {
    const bomb = (rows: number) =>
      Buffer.concat([
        plainSignature,
        chunk('IHDR', head(10, 10)),
        chunk('IDAT', deflateSync(Buffer.alloc(rows))),
        chunk('IEND', Buffer.alloc(0)),
      ]);
    expect(readPng(bomb(10 * 41), MOST).width).toBe(10);
    for (const rows of [0, 10 * 41 - 1, 10 * 41 + 1, 50_000_000]) expect(() => readPng(bomb(rows), MOST)).toThrow();
  });
});
const plainSignature = pictureOf(1, 1).subarray(0, 8);
