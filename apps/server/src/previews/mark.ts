import fontkit from '@pdf-lib/fontkit';
// Of the core only what it needs: it is started often.
import { MARK_ANGLE_DEGREES, MARK_LEADING, markTile, type MarkKind } from '@quay/core/watermark';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import {
  beginText,
  drawObject,
  endText,
  PDFDocument,
  PDFHexString,
  PDFName,
  PDFOperator,
  PDFOperatorNames,
  popGraphicsState,
  pushGraphicsState,
  rotateAndSkewTextRadiansAndTranslate,
  setFillingGrayscaleColor,
  setFontAndSize,
  setGraphicsState,
  showText,
  concatTransformationMatrix,
  type PDFFont,
  type PDFPage,
} from 'pdf-lib';
import sharp from 'sharp';

// Lays marks over pictures and documents. The font ships with the product (DejaVu, a free licence), so that a mark
// reads the same on a machine without any.

const FONT = readFileSync(createRequire(import.meta.url).resolve('dejavu-fonts-ttf/ttf/DejaVuSansCondensed-Bold.ttf'));
const outlines = fontkit.create(FONT);
const ANGLE = (MARK_ANGLE_DEGREES / 180) * Math.PI;
/** How dark a mark is, and the light edge that lets it be read on dark ground. */
const INK = { fill: 0.26, edge: 0.45 } as const;
/** Marks on one page, whatever its size: a mark is no smaller than that makes it. */
const MOST_TILES = 400;

/** How wide a line is, in sizes of its letters. */
const widthOf = (line: string): number => outlines.layout(line).advanceWidth / outlines.unitsPerEm;
const blockOf = (lines: readonly string[]) => ({ width: Math.max(...lines.map(widthOf)), lines: lines.length });

/** Where each line begins, before it is turned, with the middle of all at 0, 0 and y upwards. */
function lineStarts(lines: readonly string[], size: number): { x: number; y: number }[] {
  return lines.map((line, i) => ({
    x: (-widthOf(line) * size) / 2,
    y: ((lines.length - 1) / 2 - i) * MARK_LEADING * size - 0.35 * size,
  }));
}

/** The tile of a picture, as an SVG image of letters' outlines. */
function tileSvg(lines: readonly string[], shortSide: number): { svg: Buffer; width: number; height: number } {
  const { size, width, height } = markTile(blockOf(lines), shortSide);
  const scale = size / outlines.unitsPerEm;
  const starts = lineStarts(lines, size);
  const paths = lines.map((line, i) => {
    const { x, y } = starts[i] as { x: number; y: number };
    const { glyphs, positions } = outlines.layout(line);
    let at = 0;
    const letters = glyphs.map((glyph, g) => {
      const from = at;
      at += positions[g]?.xAdvance ?? 0;
      return `<path transform="translate(${from})" d="${glyph.path.toSVG()}"/>`;
    });
    return `<g transform="translate(${x} ${-y}) scale(${scale} ${-scale})">${letters.join('')}</g>`;
  });
  const drawn = (style: string) => `<g ${style}>${paths.join('')}</g>`;
  const edge = `fill="none" stroke="#fff" stroke-opacity="${INK.edge}" stroke-width="${outlines.unitsPerEm / 12}"`;
  const block = drawn(edge) + drawn(`fill="#1b2a29" fill-opacity="${INK.fill}"`);
  // Another stands between each two; of that, a half lies at either side of the tile.
  const blocks = [0, width / 2, width].map(
    (x) => `<g transform="translate(${x} ${height / 2}) rotate(${-MARK_ANGLE_DEGREES})">${block}</g>`,
  );
  const svg = `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="${height}">${blocks.join('')}</svg>`;
  return { svg: Buffer.from(svg), width, height };
}

/**
 * A marked copy of a picture, in the format that it has and turned as the camera says.
 * @throws Error what the library says of a picture that cannot be read
 */
export async function markImage(bytes: Uint8Array, lines: readonly string[], mostPixels: number): Promise<Buffer> {
  const opened = sharp(bytes, { limitInputPixels: mostPixels, failOn: 'error', animated: false });
  const { format, autoOrient } = await opened.metadata();
  const { width, height } = autoOrient;
  const tile = tileSvg(lines, Math.min(width, height));
  // A tile is never larger than what it lies on; of a small picture's, the middle.
  const size = { width: Math.min(width, tile.width), height: Math.min(height, tile.height) };
  const middle = { left: (tile.width - size.width) >> 1, top: (tile.height - size.height) >> 1 };
  const { data, info } = await sharp(tile.svg)
    .extract({ ...middle, ...size })
    .raw()
    .toBuffer({ resolveWithObject: true });
  const raw = { width: info.width, height: info.height, channels: info.channels };
  const marked = opened
    .autoOrient()
    .keepIccProfile()
    .composite([{ input: data, raw, tile: true, gravity: 'northwest' }]);
  switch (format) {
    case 'jpeg':
      return marked.jpeg({ quality: 92 }).toBuffer();
    case 'png':
      return marked.png({ compressionLevel: 6 }).toBuffer();
    case 'webp':
      return marked.webp({ quality: 86, effort: 2 }).toBuffer();
    case 'tiff':
      return marked.tiff({ compression: 'deflate', predictor: 'horizontal' }).toBuffer();
    default:
      throw new Error(`a picture of the format ${format}`);
  }
}

/**
 * A marked copy of a PDF document (ISO 32000): over each page lies a form that repeats the mark, with a text that can
 * be searched for. All else of the document stays as it is.
 * @throws Error what the library says of a document that cannot be read, or is encrypted
 */
export async function markPdf(bytes: Uint8Array, lines: readonly string[]): Promise<Buffer> {
  const document = await PDFDocument.load(bytes, { updateMetadata: false });
  document.registerFontkit(fontkit);
  const font = await document.embedFont(FONT, { subset: true, customName: 'Mark' });
  const see = document.context.register(document.context.obj({ Type: 'ExtGState', ca: INK.fill }));
  const forms = new Map<string, ReturnType<typeof formOf>>();
  for (const page of document.getPages()) {
    const box = page.getCropBox();
    const turned = ((page.getRotation().angle % 360) + 360) % 360;
    const key = [box.x, box.y, box.width, box.height, turned].join(' ');
    let form = forms.get(key);
    if (!form) forms.set(key, (form = formOf(document, font, see, lines, page)));
    const name = page.node.newXObject('Mark', form);
    page.pushOperators(pushGraphicsState(), drawObject(name), popGraphicsState());
  }
  return Buffer.from(await document.save());
}

type Box = ReturnType<PDFPage['getCropBox']>;

/** From the page as it is shown, with its lower left corner at 0, 0, to the page's own coordinates (ISO 32000 8.3.4). */
function fromShown({ x, y, width, height }: Box, turned: number): [number, number, number, number, number, number] {
  switch (turned) {
    case 90:
      return [0, 1, -1, 0, x + width, y];
    case 180:
      return [-1, 0, 0, -1, x + width, y + height];
    case 270:
      return [0, -1, 1, 0, x, y + height];
    default:
      return [1, 0, 0, 1, x, y];
  }
}

function formOf(
  document: PDFDocument,
  font: PDFFont,
  see: ReturnType<PDFDocument['context']['register']>,
  lines: readonly string[],
  page: PDFPage,
) {
  const box = page.getCropBox();
  const turned = ((page.getRotation().angle % 360) + 360) % 360;
  const [width, height] = turned % 180 === 0 ? [box.width, box.height] : [box.height, box.width];
  const operators = [
    setGraphicsState('See'),
    setFillingGrayscaleColor(0.1),
    concatTransformationMatrix(...fromShown(box, turned)),
    ...tilesOn(lines, width, height).flatMap(({ size, x, y }) => textAt(font, lines, size, x, y)),
  ];
  const resources = { Font: { Mark: font.ref }, ExtGState: { See: see } };
  return document.context.register(
    document.context.formXObject(operators, {
      BBox: [box.x, box.y, box.x + box.width, box.y + box.height],
      Resources: resources,
    }),
  );
}

function tilesOn(lines: readonly string[], width: number, height: number): { size: number; x: number; y: number }[] {
  const block = blockOf(lines);
  // On a long strip marks are larger than its short side alone would have them.
  let tile = markTile(block, Math.min(width, height));
  const many = (width * height) / (tile.width * tile.height);
  if (many > MOST_TILES) tile = markTile(block, Math.min(width, height) * Math.sqrt(many / MOST_TILES));
  const tiles = [];
  for (let y = tile.height / 2; y < height + tile.height / 2; y += tile.height)
    for (let x = 0; x < width + tile.width / 2; x += tile.width / 2) tiles.push({ size: tile.size, x, y });
  return tiles;
}

function textAt(font: PDFFont, lines: readonly string[], size: number, x: number, y: number): PDFOperator[] {
  const starts = lineStarts(lines, size);
  const [cos, sin] = [Math.cos(ANGLE), Math.sin(ANGLE)];
  return lines.flatMap((line, i) => {
    const start = starts[i] as { x: number; y: number };
    const at = [x + start.x * cos - start.y * sin, y + start.x * sin + start.y * cos] as const;
    return spoken(line, [
      beginText(),
      setFontAndSize('Mark', size),
      rotateAndSkewTextRadiansAndTranslate(ANGLE, 0, 0, ...at),
      showText(font.encodeText(line)),
      endText(),
    ]);
  });
}

/** What it says to whoever searches it or has it read, however its letters lie (ISO 32000 14.9.4). */
function spoken(line: string, within: PDFOperator[]): PDFOperator[] {
  const properties = `<< /ActualText ${PDFHexString.fromText(line).toString()} >>`;
  return [
    PDFOperator.of(PDFOperatorNames.BeginMarkedContentSequence, [PDFName.of('Span'), properties]),
    ...within,
    PDFOperator.of(PDFOperatorNames.EndMarkedContent),
  ];
}

/** @throws Error when it cannot be marked */
export const mark = (
  kind: MarkKind,
  bytes: Uint8Array,
  lines: readonly string[],
  mostPixels: number,
): Promise<Buffer> => (kind === 'pdf' ? markPdf(bytes, lines) : markImage(bytes, lines, mostPixels));
