import { mendName } from '../file-name/file-name.js';
import type { Instant } from '../text/when.js';
import { shownIn } from '../text/zone.js';

/** What the name of a contributor's folder is made of. */
export const FOLDER_PARTS = ['date', 'time', 'name', 'firm', 'number'] as const;
export type FolderPart = (typeof FOLDER_PARTS)[number];

export const FOLDER_PART_WORDS: Record<FolderPart, string> = {
  ...{ date: 'the day, as 2026-12-11', time: 'the time, as 17.04', name: 'who hands it in', firm: 'their firm' },
  number: 'the number of the receipt',
};

export const FOLDER_PATTERN_LENGTH = 120;
export const DEFAULT_FOLDER_PATTERN = '{{date}} {{name}}';

const PLACEHOLDER = /\{\{\s*([^{}]*?)\s*\}\}/g;
const isPart = (name: string): name is FolderPart => (FOLDER_PARTS as readonly string[]).includes(name);

/** Why a pattern is none, in words; null: it is one. */
export function folderPatternFault(pattern: string): string | null {
  if (pattern.trim() === '') return 'Folders have a name: write one, with what is filled in.';
  if (pattern.length > FOLDER_PATTERN_LENGTH) return `A name has at most ${FOLDER_PATTERN_LENGTH} signs here.`;
  const unknown = [...pattern.matchAll(PLACEHOLDER)].map((m) => m[1] ?? '').find((name) => !isPart(name));
  if (unknown !== undefined)
    return `{{${unknown}}} is none that is filled in: there are {{${FOLDER_PARTS.join('}}, {{')}}}.`;
  return null;
}

export interface Contributor {
  at: Instant;
  name: string;
  firm: string;
  /** Of their receipt. */
  number: string;
}

/**
 * The name of a contributor's folder, that every desktop can hold. What they said cannot lead elsewhere: it is part of
 * one name.
 */
export function folderName(pattern: string, { at, name, firm, number }: Contributor, zone: string): string {
  const shown = new Date(shownIn(zone, at)).toISOString();
  const values: Record<FolderPart, string> = {
    date: shown.slice(0, 10),
    time: shown.slice(11, 16).replace(':', '.'),
    name: name.trim() || 'without a name',
    firm: firm.trim(),
    number,
  };
  const filled = pattern.replace(PLACEHOLDER, (written, part: string) => (isPart(part) ? values[part] : written));
  return mendName(filled.replace(/\s+/g, ' ').trim());
}
