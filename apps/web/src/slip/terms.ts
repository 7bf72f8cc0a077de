import type { CreateShare } from '@quay/contract';
import { fromLocalField, PASSWORD_LENGTH, presetCloses, VISIT_LIMIT_RANGE, windowFault, type ShareTerms, type Window, type WindowFault } from '@quay/core';
import type { useSlip } from './store';

type Slip = ReturnType<typeof useSlip.getState>;

const WINDOW_WORDS: Record<WindowFault, string> = {
  'window.closes-before-opens': 'It would close before it opens.',
  'window.closes-in-the-past': 'That moment has passed.',
  'window.too-far': 'That is more than ten years ahead.',
};

/** Bytes by item id. */
export type Sizes = ReadonlyMap<string, number>;

export interface SlipTerms {
  window: Window;
  terms: ShareTerms;
  /** What must be mended before it can be published, by field. */
  faults: Partial<Record<'title' | 'window' | 'password' | 'limit' | 'items', string>>;
}

/** What the slip means at this moment, by the core's rules. */
export function slipTerms(slip: Slip, now: number, zone: string, sizes: Sizes): SlipTerms {
  const window: Window = slip.choice === 'custom' ? { opensAt: slip.opensField ? fromLocalField(slip.opensField, zone) : null, closesAt: slip.closesField ? fromLocalField(slip.closesField, zone) : null } : { opensAt: null, closesAt: presetCloses(slip.choice, now, zone) };
  const limit = slip.limitField.trim() === '' ? null : Number(slip.limitField);
  const faults: SlipTerms['faults'] = {};
  const fault = windowFault(window, now);
  if (fault) faults.window = WINDOW_WORDS[fault];
  if (slip.title.trim() === '') faults.title = 'A title is needed: the recipient sees it.';
  if (slip.items.length === 0) faults.items = 'Put something on the slip first.';
  if (limit !== null && (!Number.isInteger(limit) || limit < VISIT_LIMIT_RANGE.min || limit > VISIT_LIMIT_RANGE.max)) faults.limit = `A whole number from ${VISIT_LIMIT_RANGE.min} to ${VISIT_LIMIT_RANGE.max.toLocaleString('en-GB')}, or empty for no limit.`;
  if (slip.passwordChoice === 'typed' && slip.password.length < PASSWORD_LENGTH.min) faults.password = `At least ${PASSWORD_LENGTH.min} characters.`;
  return { window, faults, terms: { itemCount: slip.items.length, totalBytes: slip.items.reduce((sum, i) => sum + (sizes.get(i.id) ?? i.sizeBytes), 0), window, hasPassword: slip.passwordChoice !== 'none', visitLimit: faults.limit ? null : limit } };
}

export function shareAsked(slip: Slip, { window, terms }: SlipTerms): CreateShare {
  const text = (at: number | null) => (at === null ? null : new Date(at).toISOString());
  return {
    title: slip.title.trim(),
    message: slip.message.trim(),
    nodeIds: slip.items.map((i) => i.id),
    window: { opensAt: text(window.opensAt), closesAt: text(window.closesAt) },
    password: slip.passwordChoice === 'none' ? null : slip.password,
    weakPasswordMeant: slip.weakPasswordMeant,
    visitLimit: terms.visitLimit,
  };
}
