import type { AddressUses, ReachCheck } from '@quay/contract';
import type { WayIn } from '@quay/core';

export const WAY_WORDS: Record<WayIn, string> = {
  mapping: 'own address, port opened on the router',
  fixed: 'fixed public address',
  relay: 'through a relay',
  office: 'office only',
};
export const USES_WORDS: Record<AddressUses, string> = {
  visitors: 'visitor pages only',
  'sign-in': 'visitor pages and sign-in',
  drive: 'visitor pages, sign-in and drives',
};
export const WHY_WORDS: Record<ReachCheck['why'], string> = {
  asked: 'asked for',
  schedule: 'on schedule',
  change: 'after a change',
  remedy: 'after a remedy',
};
