import { listedText, toLocalField, type RailFix } from '@quay/core';
import { useZone } from '../ui/session';
import { useSlip } from './store';

/** Makes the change on the slip that a guardrail proposes. */
export function useFix(): (fix: RailFix) => void {
  const zone = useZone();
  return (fix) => {
    const { set, propose, listText } = useSlip.getState();
    switch (fix.change) {
      case 'closes':
        return set({ choice: 'custom', closesField: toLocalField(fix.closesAt, zone) });
      case 'password':
        return void propose();
      case 'audience':
        return set({ audience: fix.audience });
      case 'take-off':
        return set({ listText: withoutEntries(listText, fix.listed.map(listedText)) });
      case 'watermark':
        return set({ watermark: fix.watermark });
      case 'level':
        return set({ level: fix.level });
      case 'address':
        return set({ addressId: fix.addressId });
      case 'visits':
        return set({ limitField: String(fix.visitLimit) });
    }
  };
}

/** A list as it was typed, without some of its entries: lines and what parts them stay. */
export function withoutEntries(text: string, entries: readonly string[]): string {
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
