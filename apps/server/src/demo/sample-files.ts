import { PDFDocument, rgb, StandardFonts } from 'pdf-lib';
import sharp from 'sharp';
import type { Random } from './random.js';
import { webm } from './webm.js';

/** The office's logo: a survey mark over the tide line. PNG. */
export function officeLogo(): Promise<Buffer> {
  const drawing = `<svg xmlns="http://www.w3.org/2000/svg" width="240" height="132" fill="none" stroke="#0e5a60">
    <path d="M120 14 L174 92 H66 Z" stroke-width="9" stroke-linejoin="round"/>
    <circle cx="120" cy="66" r="9" fill="#c24a16" stroke="none"/>
    <path d="M12 112 q18 -14 36 0 t36 0 t36 0 t36 0 t36 0 t36 0" stroke-width="8" stroke-linecap="round"/>
  </svg>`;
  return sharp(Buffer.from(drawing)).png({ palette: true }).toBuffer();
}

/** A site photograph: sky, a horizon, ground, a few blocks. JPEG. */
export async function photograph(random: Random, width = 1280, height = 960): Promise<Buffer> {
  return sharp(scene(random, width, height, 0), { raw: { width, height, channels: 3 } })
    .jpeg({ quality: 78 })
    .toBuffer();
}

/** A few seconds of a drone's view: the scene drifts by. WebM. */
export async function video(random: Random): Promise<Buffer> {
  const [width, height] = [640, 360];
  const seed = random.whole(1, 1e9);
  const frames: Buffer[] = [];
  const { Random: Source } = await import('./random.js');
  for (let i = 0; i < 48; i += 1)
    frames.push(
      await sharp(scene(new Source(seed), width, height, i * 6), { raw: { width, height, channels: 3 } })
        .webp({ quality: 55 })
        .toBuffer(),
    );
  return webm(frames, width, height, 83);
}

function scene(random: Random, width: number, height: number, shift: number): Buffer {
  const out = Buffer.allocUnsafe(width * height * 3);
  const horizon = Math.floor(height * (0.35 + random.next() * 0.2));
  const sky = [150 + random.whole(0, 40), 175 + random.whole(0, 30), 190 + random.whole(0, 40)];
  const soil = random.pick([
    [122, 104, 78],
    [96, 112, 72],
    [140, 132, 118],
    [112, 92, 70],
  ]);
  const blocks = Array.from({ length: random.whole(3, 8) }, () => ({
    x: random.whole(-50, width),
    w: random.whole(30, 220),
    h: random.whole(20, Math.floor(height * 0.28)),
    c: random.whole(60, 190),
    warm: random.whole(-10, 30),
  }));
  for (let y = 0; y < height; y += 1) {
    for (let x = 0; x < width; x += 1) {
      const i = (y * width + x) * 3;
      const wave = Math.sin((x + shift) * 0.031 + y * 0.017) * 6 + Math.sin((x + shift) * 0.19 + y * 0.23) * 4;
      const depth = y < horizon ? (y / horizon) * 40 : ((y - horizon) / (height - horizon)) * -34;
      const base = y < horizon ? sky : soil;
      const grain = y < horizon ? 0 : wave + ((Math.imul(x + shift + y * 7919, 2654435761) >>> 28) - 8);
      for (let c = 0; c < 3; c += 1) out[i + c] = clamp((base[c] as number) + depth + grain);
    }
  }
  for (const b of blocks) {
    for (let y = Math.max(0, horizon - b.h); y < horizon + 12; y += 1) {
      for (let x = Math.max(0, b.x - shift); x < Math.min(width, b.x - shift + b.w); x += 1) {
        const i = (y * width + x) * 3;
        const shade = x - (b.x - shift) > b.w * 0.7 ? -26 : 0;
        out[i] = clamp(b.c + b.warm + shade);
        out[i + 1] = clamp(b.c + shade);
        out[i + 2] = clamp(b.c - b.warm + shade);
      }
    }
  }
  return out;
}

const clamp = (value: number): number => Math.max(0, Math.min(255, Math.round(value)));

/** An elevation drawn in lines. PNG. */
export async function elevation(random: Random): Promise<Buffer> {
  const [width, height] = [1800, 1200];
  const out = Buffer.alloc(width * height, 250);
  const line = (x0: number, y0: number, x1: number, y1: number) => {
    const steps = Math.max(Math.abs(x1 - x0), Math.abs(y1 - y0), 1);
    for (let s = 0; s <= steps; s += 1)
      out[Math.round(y0 + ((y1 - y0) * s) / steps) * width + Math.round(x0 + ((x1 - x0) * s) / steps)] = 30;
  };
  const box = (x: number, y: number, w: number, h: number) => {
    line(x, y, x + w, y);
    line(x, y + h, x + w, y + h);
    line(x, y, x, y + h);
    line(x + w, y, x + w, y + h);
  };
  box(40, 40, width - 80, height - 80);
  for (let floor = 0; floor < 3; floor += 1)
    for (let bay = 0; bay < 9; bay += 1) if (random.next() > 0.15) box(180 + bay * 160, 300 + floor * 220, 90, 140);
  line(120, 960, 1680, 960);
  line(160, 260, 900, 140);
  line(900, 140, 1640, 260);
  return sharp(out, { raw: { width, height, channels: 1 } })
    .png()
    .toBuffer();
}

/** A drawing sheet with a frame, a plan and a title block. PDF. */
export async function drawing(random: Random, title: string, at: Date, pages = 1): Promise<Buffer> {
  const pdf = await PDFDocument.create();
  pdf.setTitle(title);
  pdf.setAuthor('Saltmarsh Survey Partnership');
  pdf.setCreationDate(at);
  pdf.setModificationDate(at);
  const font = await pdf.embedFont(StandardFonts.Helvetica);
  const ink = rgb(0.11, 0.17, 0.2);
  for (let n = 1; n <= pages; n += 1) {
    const page = pdf.addPage([842, 595]);
    page.drawRectangle({ x: 20, y: 20, width: 802, height: 555, borderColor: ink, borderWidth: 1 });
    page.drawText(title, { x: 560, y: 60, size: 13, font, color: ink });
    page.drawText(`Saltmarsh Survey Partnership   sheet ${n} of ${pages}`, {
      x: 560,
      y: 40,
      size: 8,
      font,
      color: ink,
    });
    for (let i = 0; i < 60; i += 1) {
      const [x, y] = [random.whole(50, 520), random.whole(60, 540)];
      page.drawLine({
        start: { x, y },
        end: { x: x + random.whole(-90, 90), y: random.next() > 0.5 ? y : y + random.whole(-60, 60) },
        thickness: random.next() + 0.2,
        color: ink,
      });
    }
  }
  return Buffer.from(await pdf.save({ useObjectStreams: false }));
}

/** Lines and levels as a drawing exchange file (DXF R12 text: group codes and values in turn). */
export function dxf(random: Random, lines: number): Buffer {
  const out = ['0', 'SECTION', '2', 'ENTITIES'];
  for (let i = 0; i < lines; i += 1) {
    const p = () => (random.next() * 200).toFixed(3);
    out.push(
      '0',
      'LINE',
      '8',
      random.pick(['BOUNDARY', 'KERB', 'WALL', 'LEVELS']),
      '10',
      p(),
      '20',
      p(),
      '30',
      '0.0',
      '11',
      p(),
      '21',
      p(),
      '31',
      '0.0',
    );
  }
  return Buffer.from([...out, '0', 'ENDSEC', '0', 'EOF', ''].join('\r\n'));
}

/** Control points or levels, comma-separated (RFC 4180). */
export function csv(random: Random, rows: number): Buffer {
  const out = ['point,easting,northing,level,note'];
  for (let i = 1; i <= rows; i += 1)
    out.push(
      `CP${String(i).padStart(3, '0')},${(431000 + random.next() * 900).toFixed(3)},${(118000 + random.next() * 900).toFixed(3)},${(12 + random.next() * 9).toFixed(3)},${random.pick(['nail', 'peg', 'kerb', 'cover', '"wall, north end"', ''])}`,
    );
  return Buffer.from(`${out.join('\r\n')}\r\n`);
}

/** A point cloud: LAS 1.2, point format 0 (ASPRS LAS specification 1.2, public header block of 227 bytes). */
export function pointCloud(random: Random, points: number, at: Date): Buffer {
  const out = Buffer.alloc(227 + points * 20);
  out.write('LASF', 0, 'ascii');
  out[24] = 1;
  out[25] = 2;
  out.write('SURVEY', 26, 'ascii');
  out.write('DEMO GENERATOR', 58, 'ascii');
  out.writeUInt16LE(Math.floor((at.getTime() - Date.UTC(at.getUTCFullYear(), 0, 0)) / 86_400_000), 90);
  out.writeUInt16LE(at.getUTCFullYear(), 92);
  out.writeUInt16LE(227, 94);
  out.writeUInt32LE(227, 96);
  out[104] = 0;
  out.writeUInt16LE(20, 105);
  out.writeUInt32LE(points, 107);
  out.writeUInt32LE(points, 111);
  for (let axis = 0; axis < 3; axis += 1) {
    out.writeDoubleLE(0.001, 131 + axis * 8);
    out.writeDoubleLE(0, 155 + axis * 8);
    out.writeDoubleLE(200, 179 + axis * 16);
    out.writeDoubleLE(0, 187 + axis * 16);
  }
  let state = random.whole(1, 0x7fffffff);
  for (let i = 0, o = 227; i < points; i += 1, o += 20) {
    // xorshift32: quick enough for millions of points.
    state ^= state << 13;
    state ^= state >>> 17;
    state ^= state << 5;
    out.writeInt32LE((state >>> 1) % 200_000, o);
    out.writeInt32LE(Math.imul(state, 48271) >>> 15, o + 4);
    out.writeInt32LE((state >>> 9) % 20_000, o + 8);
    out.writeUInt16LE(state & 0xffff, o + 12);
    out[o + 14] = 9;
    out[o + 15] = 2;
  }
  return out;
}

export function note(random: Random, title: string): Buffer {
  const lines = [
    'Access by the east gate, ask for the site foreman.',
    'Benchmark on the church step, level carried forward.',
    'Culvert silted to half depth; photographs 12 to 19.',
    'Client wants the sections at 1:50.',
    'Return visit after the scaffold is down.',
    'Batteries charged, prism pole straightened.',
  ];
  return Buffer.from(
    `${title}\n\n${Array.from({ length: random.whole(3, 6) }, () => `- ${random.pick(lines)}`).join('\n')}\n`,
  );
}
