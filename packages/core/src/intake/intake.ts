import { addressText, type Address } from '../link/link.js';
import type { Instant } from '../text/when.js';
import { windowPhase, type Window } from '../window/window.js';

export const INTAKE_STATES = ['open', 'scheduled', 'closed', 'withdrawn', 'broken'] as const;
export type IntakeState = (typeof INTAKE_STATES)[number];

/** What the state of an intake depends on. */
export interface IntakeFacts {
  window: Window;
  withdrawnAt: Instant | null;
  /** While its folder is gone, or whoever made it may put nothing there. */
  broken: boolean;
}

/** The state at an instant, the first that applies: withdrawn > broken > closed > scheduled > open. */
export function intakeState(facts: IntakeFacts, at: Instant): IntakeState {
  if (facts.withdrawnAt !== null && at >= facts.withdrawnAt) return 'withdrawn';
  return facts.broken ? 'broken' : windowPhase(facts.window, at);
}

/** For how long what was begun before the window closed may still be finished (invented). */
export const FINISH_WITHIN_MS = 3_600_000;

/** Whether a deposit that began at some time may still be added to, and handed in. */
export function mayFinish(facts: IntakeFacts, began: Instant, at: Instant): boolean {
  const state = intakeState(facts, at);
  if (state === 'open') return true;
  const { opensAt, closesAt } = facts.window;
  const wasOpen = closesAt !== null && began < closesAt && (opensAt === null || began >= opensAt);
  return state === 'closed' && wasOpen && at < closesAt + FINISH_WITHIN_MS;
}

/** What was begun and not handed in goes when nobody has gone on with it for so long. */
export const BEGUN_KEPT_MS = 24 * 3_600_000;

/** A browser is known again for so long, so that it can hand in more. */
export const CONTRIBUTOR_KNOWN_SECONDS = 30 * 24 * 3600;

/** The link of an intake. */
export const intakeLink = (address: Address, token: string): string => `${addressText(address)}/h/${token}`;
/** The link of a receipt. */
export const receiptLink = (address: Address, token: string, key: string): string =>
  `${intakeLink(address, token)}/receipt/${key}`;

export const DEPOSIT_STATES = ['arriving', 'waiting', 'accepted', 'partly', 'refused'] as const;
export type DepositState = (typeof DEPOSIT_STATES)[number];

export const DEPOSIT_WORDS: Record<DepositState, string> = {
  arriving: 'arriving',
  waiting: 'waits',
  accepted: 'accepted',
  partly: 'partly accepted',
  refused: 'refused',
};

/** The state of a deposit that was handed in, by what was decided about each of its files; null: nothing yet. */
export function depositState(decided: readonly ('accepted' | 'refused' | null)[]): DepositState {
  if (decided.length === 0 || decided.includes(null)) return 'waiting';
  if (!decided.includes('refused')) return 'accepted';
  return decided.includes('accepted') ? 'partly' : 'refused';
}
