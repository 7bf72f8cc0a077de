import type { Instant } from '../text/when.js';
import type { ReachMark } from './verdict.js';
import type { WayIn } from './facts.js';

const MINUTE_MS = 60_000;
const HOUR_MS = 60 * MINUTE_MS;
const LONGEST_WAIT_HOURS = 24;

/** When a mapping is renewed: at half of its life (RFC 6886 §3.3, RFC 6887 §11.2.1). */
export function mappingRenewsAt(grantedAt: Instant, endsAt: Instant): Instant {
  return (grantedAt + endsAt) / 2;
}

/** What a router said of its own age (seconds since it forgot everything), and when it said so. */
export interface Epoch {
  seconds: number;
  at: Instant;
}

/**
 * Whether a router has forgotten its mappings between two answers: its own seconds went back, or went otherwise than
 * ours (RFC 6887 §8.5, whose bounds also hold for RFC 6886 §3.6: a clock may be off by a sixteenth, and two seconds).
 */
export function hasForgotten(before: Epoch, now: Epoch): boolean {
  if (now.seconds + 1 < before.seconds) return true;
  const ours = (now.at - before.at) / 1000;
  const theirs = now.seconds - before.seconds;
  return ours + 2 < theirs - theirs / 16 || theirs + 2 < ours - ours / 16;
}

/** When a certificate is renewed: with a third of its life left (common practice, no source). */
export function certificateRenewsAt(notBefore: Instant, notAfter: Instant): Instant {
  return notAfter - (notAfter - notBefore) / 3;
}

/**
 * How long to wait after a renewal failed so many times in a row, in milliseconds: authorities one hour, two, four, up
 * to a day; routers and name servers a minute. 0 when nothing failed.
 */
export function renewalWaitMs(kind: 'record' | 'mapping' | 'certificate', failures: number): number {
  if (failures <= 0) return 0;
  return kind === 'certificate' ? Math.min(LONGEST_WAIT_HOURS, 2 ** (failures - 1)) * HOUR_MS : MINUTE_MS;
}

/** Whether an address goes through the relay by itself now: where that was chosen, and two checks in a row failed. */
export function fallsBack(
  address: { wayIn: WayIn; fallback: 'offer' | 'auto' },
  before: ReachMark,
  now: ReachMark,
): boolean {
  return (
    address.fallback === 'auto' &&
    (address.wayIn === 'mapping' || address.wayIn === 'fixed') &&
    before === 'fail' &&
    now === 'fail'
  );
}

/** What is wrong with an address before anything is asked of the network; null when nothing is. */
export function addressFault(address: { wayIn: WayIn; scheme: 'http' | 'https' }): 'address.not-encrypted' | null {
  return address.wayIn !== 'office' && address.scheme === 'http' ? 'address.not-encrypted' : null;
}
