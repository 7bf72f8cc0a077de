import { extensionOf } from '../admission/admission.js';

/** How a file can be looked at: as a picture made of it, pages made of it, its text, or played. */
export type PreviewKind = 'image' | 'pages' | 'table' | 'text' | 'audio' | 'video' | 'none';

const IMAGES = new Set(['png', 'jpg', 'jpeg', 'gif', 'webp', 'avif', 'tif', 'tiff', 'svg']);
const TABLES = new Set(['csv', 'tsv']);
const TEXTS = new Set([
  'txt',
  'md',
  'log',
  'json',
  'xml',
  'yaml',
  'yml',
  'ini',
  'html',
  'htm',
  'css',
  'js',
  'ts',
  'py',
  'sql',
  'dxf',
  'geojson',
  'gpx',
  'kml',
  'xyz',
  'asc',
  'prj',
  'wkt',
]);
// What Debian's Chromium and the other browsers of the day play without further help: common practice, no source.
const AUDIO = new Set(['mp3', 'ogg', 'oga', 'wav', 'm4a', 'flac']);
const VIDEO = new Set(['mp4', 'webm', 'm4v']);

/** Extensions of files that something is made of: pictures, or words to search in. */
export const PREVIEWED_TYPES: readonly string[] = [...IMAGES, 'pdf', ...TABLES, ...TEXTS];

/** By the name alone: what a file really holds is found out where it is opened. */
export function previewKind(name: string): PreviewKind {
  const extension = extensionOf(name);
  if (IMAGES.has(extension)) return 'image';
  if (extension === 'pdf') return 'pages';
  if (TABLES.has(extension)) return 'table';
  if (TEXTS.has(extension)) return 'text';
  if (AUDIO.has(extension)) return 'audio';
  if (VIDEO.has(extension)) return 'video';
  return 'none';
}

/** Whether a small picture can be made of a file. */
export function hasThumbnail(kind: PreviewKind): boolean {
  return kind === 'image' || kind === 'pages';
}

/**
 * Bytes as text: UTF-16 where a byte order mark says so, UTF-8 where it is valid, Latin-1 otherwise (WHATWG Encoding
 * Standard's decoders). Null when it is not text: a NUL among the first bytes, but for UTF-16.
 */
export function decodeText(bytes: Uint8Array): { text: string; encoding: 'UTF-8' | 'UTF-16' | 'Latin-1' } | null {
  if (bytes[0] === 0xff && bytes[1] === 0xfe)
    return { text: new TextDecoder('utf-16le').decode(bytes), encoding: 'UTF-16' };
  if (bytes[0] === 0xfe && bytes[1] === 0xff)
    return { text: new TextDecoder('utf-16be').decode(bytes), encoding: 'UTF-16' };
  if (bytes.subarray(0, 8192).includes(0)) return null;
  for (let cut = 0; cut < 4; cut += 1) {
    try {
      // A text that was cut off may end inside a letter of several bytes.
      return {
        text: new TextDecoder('utf-8', { fatal: true }).decode(bytes.subarray(0, bytes.length - cut)),
        encoding: 'UTF-8',
      };
    } catch {
      // one byte less
    }
  }
  return { text: new TextDecoder('latin1').decode(bytes), encoding: 'Latin-1' };
}
