import fontkit from '@pdf-lib/fontkit';
// Of the core only what it needs: it is started often.
import { TEXT_PAGE } from '@quay/core/text-pages';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import sharp from 'sharp';

// Draws a page of text. Its letters ship with the product (DejaVu, a free licence).

/** A4 upright, in px. */
const PAGE = { width: 1272, height: 1800, margin: 60 } as const;
const LEADING = 1.38;

let font: ReturnType<typeof fontkit.create> | null = null;
const outlines = () =>
  (font ??= fontkit.create(
    readFileSync(createRequire(import.meta.url).resolve('dejavu-fonts-ttf/ttf/DejaVuSansMono.ttf')),
  ));

/** Lines of at most {@link TEXT_PAGE} as a picture (WebP); letters that the font does not have are boxes. */
export function drawText(lines: readonly string[]): Promise<Buffer> {
  const letters = outlines();
  const advance = letters.layout('x').advanceWidth / letters.unitsPerEm;
  const size = (PAGE.width - 2 * PAGE.margin) / TEXT_PAGE.columns / advance;
  const scale = size / letters.unitsPerEm;
  const known = new Map<number, string>();
  const rows = lines.slice(0, TEXT_PAGE.lines).map((line, n) => {
    const { glyphs, positions } = letters.layout(line);
    let at = 0;
    const uses = glyphs.map((glyph, g) => {
      const from = at;
      at += positions[g]?.xAdvance ?? 0;
      if (!known.has(glyph.id)) known.set(glyph.id, glyph.path.toSVG());
      return known.get(glyph.id) === '' ? '' : `<use href="#g${glyph.id}" x="${from}"/>`;
    });
    const y = PAGE.margin + (n + 1) * size * LEADING;
    return `<g transform="translate(${PAGE.margin} ${y}) scale(${scale} ${-scale})">${uses.join('')}</g>`;
  });
  const shapes = [...known].map(([id, d]) => `<path id="g${id}" d="${d}"/>`);
  const svg = `<svg xmlns="http://www.w3.org/2000/svg" width="${PAGE.width}" height="${PAGE.height}">
    <defs>${shapes.join('')}</defs><rect width="100%" height="100%" fill="#fff"/><g fill="#1b2a29">${rows.join('')}</g></svg>`;
  return sharp(Buffer.from(svg)).webp({ quality: 82, effort: 2 }).toBuffer();
}
