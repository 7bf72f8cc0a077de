import fontkit from '@pdf-lib/fontkit';
import { momentInWords, sentenceText, type Instant } from '@quay/core';
import type { ShareSheet } from '@quay/contract';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { PDFDocument, rgb, type PDFFont, type PDFPage } from 'pdf-lib';
import { create } from 'qrcode';

// A sheet of paper to hand over: link, QR code (ISO/IEC 18004), terms, and room to write the password by hand.

/** A4 upright, in points. */
const PAGE = { width: 595, height: 842, margin: 56 } as const;
const INK = rgb(0.11, 0.17, 0.2);
const QUIET = rgb(0.36, 0.4, 0.39);
const QR_SIZE = 190;
/** Squares to write a sign into, in a row, and rows of them. */
const SQUARES = { size: 21, each: 22, rows: 2 } as const;

export interface SheetFacts {
  sheet: ShareSheet;
  office: string;
  /** Whose it is, and how they are reached; null: not known. */
  sender: string;
  senderMail: string | null;
  now: Instant;
  zone: string;
}

const fontFile = (name: string): Buffer =>
  readFileSync(createRequire(import.meta.url).resolve(`dejavu-fonts-ttf/ttf/${name}.ttf`));

/** The sheet as a PDF of one page. It holds the link and never the password. */
export async function handOverSheet({ sheet, office, sender, senderMail, now, zone }: SheetFacts): Promise<Buffer> {
  const pdf = await PDFDocument.create();
  pdf.registerFontkit(fontkit);
  const [text, bold, mono] = await Promise.all(
    ['DejaVuSans', 'DejaVuSans-Bold', 'DejaVuSansMono'].map((name) => pdf.embedFont(fontFile(name), { subset: true })),
  );
  const page = pdf.addPage([PAGE.width, PAGE.height]);
  pdf.setTitle(sheet.title);
  pdf.setAuthor(office);
  const pen = new Pen(page, PAGE.height - PAGE.margin);
  pen.write(office, { font: bold as PDFFont, size: 10, colour: QUIET });
  pen.down(14);
  pen.write(sheet.title, { font: bold as PDFFont, size: 20 });
  pen.down(6);
  pen.write(sentenceText(sheet.sentence), { font: text as PDFFont, size: 11 });
  if (sheet.message) {
    pen.down(8);
    pen.write(sheet.message, { font: text as PDFFont, size: 11, most: 12 });
  }
  pen.down(18);
  pen.write(sheet.link, { font: mono as PDFFont, size: 11 });
  pen.down(10);
  pen.code(sheet.link);
  if (sheet.hasPassword) {
    pen.down(22);
    pen.write('Password, written by hand:', { font: bold as PDFFont, size: 11 });
    pen.down(4);
    pen.squares();
  }
  const by = senderMail === null ? sender : `${sender}, ${senderMail}`;
  page.drawText(oneLine(`${by} · ${momentInWords(now, now, zone)}`), {
    ...{ x: PAGE.margin, y: PAGE.margin - 16, size: 9, font: text as PDFFont, color: QUIET },
  });
  return Buffer.from(await pdf.save());
}

interface Hand {
  font: PDFFont;
  size: number;
  colour?: ReturnType<typeof rgb>;
  /** Lines at the most. */
  most?: number;
}

/** Writes down a page, from the top. */
class Pen {
  constructor(
    private readonly page: PDFPage,
    private y: number,
  ) {}

  down(by: number): void {
    this.y -= by;
  }

  write(words: string, { font, size, colour = INK, most = 30 }: Hand): void {
    const lines = wrapped(words, font, size);
    const shown = lines.length > most ? [...lines.slice(0, most - 1), '…'] : lines;
    for (const line of shown) {
      this.y -= size * 1.35;
      this.page.drawText(line, { x: PAGE.margin, y: this.y, size, font, color: colour });
    }
  }

  code(content: string): void {
    const { modules } = create(content, { errorCorrectionLevel: 'M' });
    const each = QR_SIZE / modules.size;
    for (let row = 0; row < modules.size; row += 1)
      for (let column = 0; column < modules.size; column += 1)
        if (modules.get(row, column))
          this.page.drawRectangle({
            ...{ x: PAGE.margin + column * each, y: this.y - (row + 1) * each, width: each, height: each },
            color: rgb(0, 0, 0),
          });
    this.y -= QR_SIZE;
  }

  squares(): void {
    for (let row = 0; row < SQUARES.rows; row += 1) {
      this.y -= SQUARES.size + 6;
      for (let n = 0; n < SQUARES.each; n += 1)
        this.page.drawRectangle({
          ...{ x: PAGE.margin + n * SQUARES.size, y: this.y, width: SQUARES.size, height: SQUARES.size },
          ...{ borderColor: QUIET, borderWidth: 0.6 },
        });
    }
  }
}

/** Letters that the font does not have would stop the whole page: they are boxes. */
const drawable = (line: string, font: PDFFont): string => {
  const known = new Set(font.getCharacterSet());
  return [...line].map((sign) => (known.has(sign.codePointAt(0) as number) ? sign : '□')).join('');
};

const oneLine = (words: string): string => words.replace(/[\p{C}\s]+/gu, ' ').trim();

/** Lines that are no wider than the page; a word that is wider itself is parted. */
function wrapped(words: string, font: PDFFont, size: number): string[] {
  const width = PAGE.width - 2 * PAGE.margin;
  const fits = (line: string) => font.widthOfTextAtSize(line, size) <= width;
  return words.split(/\r\n?|\n/).flatMap((paragraph) => {
    const lines: string[] = [];
    let line = '';
    for (const word of drawable(oneLine(paragraph), font).split(' ')) {
      let rest = line === '' ? word : `${line} ${word}`;
      if (!fits(rest) && line !== '') {
        lines.push(line);
        rest = word;
      }
      while (!fits(rest)) {
        let end = rest.length;
        while (!fits(rest.slice(0, end))) end -= 1;
        lines.push(rest.slice(0, end));
        rest = rest.slice(end);
      }
      line = rest;
    }
    return [...lines, line];
  });
}
