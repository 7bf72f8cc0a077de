import { extensionOf } from '../admission/admission.js';
import { dayInWords, clockTime, zoneName, type Instant } from '../text/when.js';
import type { ShareLevel } from './may.js';

/**
 * Whether visitors get copies that are marked for each of them, and what becomes of files of kinds that cannot carry a
 * mark: they are given as they are, or not at all.
 */
export const WATERMARKS = ['none', 'others-plain', 'others-withheld'] as const;
export type Watermark = (typeof WATERMARKS)[number];

export const WATERMARK_WORDS: Record<Watermark, string> = {
  none: 'None',
  'others-plain': 'Pictures and PDF; the rest as it is',
  'others-withheld': 'Pictures and PDF; nothing else',
};

/** What a mark is laid over when it is given away: a picture, or each page of a document. */
export type MarkKind = 'image' | 'pdf';

const MARKED_IMAGES = ['jpg', 'jpeg', 'png', 'webp', 'tif', 'tiff'];

/** How a copy of a file can carry a mark, by its name; null: it cannot. */
export function markKind(name: string): MarkKind | null {
  const extension = extensionOf(name);
  if (extension === 'pdf') return 'pdf';
  return MARKED_IMAGES.includes(extension) ? 'image' : null;
}

/** Larger files are not marked: their copies are made in memory (invented: more than any plan or survey photograph). */
export const MOST_MARKED_BYTES = 200_000_000;
/** More than this is not marked for one archive. */
export const MOST_MARKED_ARCHIVE_BYTES = 2_000_000_000;

/** How a visitor gets a file: as it is, as a copy that is marked for them, or only to look at. */
export type Handing = 'plain' | 'marked' | 'withheld';

export function handingOf(
  { level, watermark }: { level: ShareLevel; watermark: Watermark },
  { name, sizeBytes }: { name: string; sizeBytes: number },
): Handing {
  if (level === 'view') return 'withheld';
  if (watermark === 'none') return 'plain';
  if (markKind(name) === null) return watermark === 'others-plain' ? 'plain' : 'withheld';
  // What should be marked and cannot be is not given without.
  return sizeBytes <= MOST_MARKED_BYTES ? 'marked' : 'withheld';
}

/** Whether pictures that visitors look at are marked. Where nothing else is given, they always are. */
export const marksPictures = ({ level, watermark }: { level: ShareLevel; watermark: Watermark }): boolean =>
  level === 'view' || watermark !== 'none';

const LINE_LETTERS = 44;

/**
 * What stands on a marked copy: whom it was made for, when that visit began, and whose office it is from; in lines that
 * are short enough to be repeated. The time is the office's, with its zone, so that it means the same anywhere.
 */
export function markLines(mark: { who: string; office: string; at: Instant }, zone: string): string[] {
  const { who, office, at } = mark;
  // A copy is looked at in any year.
  const when = `${dayInWords(at, 0, zone)}, ${clockTime(at, zone)} ${zoneName(at, zone)}`;
  return [who, `${when}, ${office}`].flatMap((line) => pieces(line.replaceAll(/\p{Cc}/gu, ' '), LINE_LETTERS));
}

/** Whom a mark names where nobody is known: the visit, by the last letters of its id, as the share's own page lists it. */
export const visitName = (visitId: string): string => `Visit ${visitId.replaceAll('-', '').slice(-6).toUpperCase()}`;

/** A text in pieces of so many letters, at a space where there is one in their second half. */
function pieces(text: string, letters: number): string[] {
  const all: string[] = [];
  let rest = [...text];
  while (rest.length > letters) {
    const space = rest.lastIndexOf(' ', letters);
    const at = space > letters / 2 ? space : letters;
    all.push(rest.slice(0, at).join(''));
    rest = rest.slice(rest[at] === ' ' ? at + 1 : at);
  }
  return [...all, rest.join('')];
}

/** From the lower left to the upper right, counter-clockwise from the horizontal. */
export const MARK_ANGLE_DEGREES = 30;
/** From line to line, in sizes of the letters. */
export const MARK_LEADING = 1.3;
/** The short side of what is marked, in sizes of the letters: about three marks across a page. */
const SIZES_ACROSS = 34;

/**
 * The tile that is repeated over what is marked, in its own units (pixels, or points of a page).
 * @param block how wide the lines are and how many, in sizes of the letters
 */
export function markTile(
  block: { width: number; lines: number },
  shortSide: number,
): { size: number; width: number; height: number } {
  const size = Math.max(4, shortSide / SIZES_ACROSS);
  const angle = (MARK_ANGLE_DEGREES / 180) * Math.PI;
  const [wide, high] = [block.width * size, block.lines * MARK_LEADING * size];
  return {
    size,
    width: Math.ceil(wide * Math.cos(angle) + high * Math.sin(angle) + 2 * size),
    height: Math.ceil(wide * Math.sin(angle) + high * Math.cos(angle) + 2 * size),
  };
}
