import { listedText, toLocalField, type RailFix } from '@quay/core';
import type { ChosenAudience } from './audience/chosen';
import type { ChosenWindow } from './window-choice';

type Chosen = Partial<ChosenWindow & ChosenAudience & { addressId: string }>;

/** The change that a guardrail proposes, as it would be typed; null: it is of something else. */
export function typedFix(fix: RailFix, { listText }: { listText: string }, zone: string): Chosen | null {
  switch (fix.change) {
    case 'closes':
      return { choice: 'custom', closesField: toLocalField(fix.closesAt, zone) };
    case 'audience':
      return { audience: fix.audience };
    case 'take-off':
      return { listText: withoutEntries(listText, fix.listed.map(listedText)) };
    case 'address':
      return { addressId: fix.addressId };
    default:
      return null;
  }
}

/** A list as it was typed, without some of its entries: lines and what parts them stay. */
function withoutEntries(text: string, entries: readonly string[]): string {
  const gone = new Set(entries.map((entry) => entry.toLowerCase()));
  return text
    .split(/([,;\t\r\n]+)/)
    .filter((piece, i, all) => {
      const isGone = (at: string | undefined) => at !== undefined && gone.has(bare(at));
      // A separator goes with what stood before it.
      return i % 2 === 1 ? !isGone(all[i - 1]) : !isGone(piece);
    })
    .join('')
    .trim();
}

/** `"Hale, Marek" <m.hale@fenway.example>`: the address alone. */
const bare = (piece: string): string => (/<([^<>]*)>/.exec(piece)?.[1] ?? piece).trim().toLowerCase();
