import type { Instant } from '../text/when.js';
import type { AudienceKind } from './audience.js';
import { visitorActs, type ShareMay } from './may.js';
import { VISIT_LIFETIME_SECONDS } from './share.js';
import { windowPhase, type Window } from '../window/window.js';

/** What of a share matters to those who are inside. */
export interface InsideFacts {
  window: Window;
  visitLimit: number | null;
  visitsUsed: number;
  audience: AudienceKind;
  may: ShareMay;
  /** As its link begins. */
  address: string;
}

/**
 * What a change does at once to those who are inside, and to links that are out, each as a sentence.
 * @param anew that who is on the list, or among the members, is not the same any more; that there is another password
 */
export function changeEffects(
  before: InsideFacts,
  after: InsideFacts,
  anew: { list: boolean; password: boolean },
  now: Instant,
): string[] {
  const shuts = windowPhase(before.window, now) === 'open' && windowPhase(after.window, now) !== 'open';
  // Whoever is out notices nothing else.
  if (shuts) return ['Whoever is inside is out at once.'];
  const acts = (may: ShareMay) => visitorActs(may).all;
  const lost = acts(before.may).filter((act) => !acts(after.may).includes(act));
  const isFull = after.visitLimit !== null && after.visitsUsed >= after.visitLimit;
  const wasFull = before.visitLimit !== null && before.visitsUsed >= before.visitLimit;
  return [
    anew.password && 'Whoever is inside is out at once, and comes in by the new password.',
    !anew.password &&
      (anew.list || before.audience !== after.audience) &&
      'Whoever is inside and not meant any more is out at once.',
    lost.includes('read') && 'What is being taken at that moment stops.',
    lost.includes('add') && 'What is on its way into it at that moment is not taken in.',
    before.may.watermark !== after.may.watermark &&
      lost.length === 0 &&
      'What is being taken at that moment stops; it can be taken again as the watermark says.',
    isFull && !wasFull && 'Nobody new is let in; whoever is inside stays.',
    before.address !== after.address && 'Links that are out go on working while their address leads here.',
  ].filter((words) => words !== false);
}

/** Of visits, how many may last at a moment. */
export const lastingVisits = (beganAt: readonly Instant[], now: Instant): number =>
  beganAt.filter((at) => at + VISIT_LIFETIME_SECONDS * 1000 > now).length;
