import type { Instant } from '../text/when.js';

/** How an authority is shown that a name is ours (RFC 8555 §8.3 and §8.4, RFC 8737), in the order in which it is tried. */
export const PROOF_KINDS = ['dns-01', 'http-01', 'tls-alpn-01'] as const;
export type ProofKind = (typeof PROOF_KINDS)[number];

/** How far an order has come. */
export const ORDER_STEPS = ['waiting', 'ordering', 'showing', 'looking', 'making'] as const;
export type OrderStep = (typeof ORDER_STEPS)[number];

const SHOWN: Record<ProofKind, string> = {
  'dns-01': 'The proof is in the zone; waiting until every name server of the zone tells it.',
  'http-01': 'The proof is being shown on port 80.',
  'tls-alpn-01': 'The proof is being shown on port 443.',
};
const LOOKED_AT: Record<ProofKind, string> = {
  'dns-01': 'The authority looks for the proof in the zone.',
  'http-01': 'The authority looks for the proof on port 80.',
  'tls-alpn-01': 'The authority looks for the proof on port 443.',
};

/** What is going on with an order, in words. */
export function orderWords(step: OrderStep, kind: ProofKind | null): string {
  switch (step) {
    case 'waiting':
      return 'Waits for its turn.';
    case 'ordering':
      return 'Asks the authority.';
    case 'showing':
      return SHOWN[kind ?? 'http-01'];
    case 'looking':
      return LOOKED_AT[kind ?? 'http-01'];
    case 'making':
      return 'The authority makes the certificate.';
  }
}

/** A CAA record (RFC 8659 §4): who may issue certificates for a name. */
export interface CaaRecord {
  tag: string;
  value: string;
}

/**
 * Whether an authority may issue for a name by the records that hold for it, which are those of the name itself or of
 * the closest name above that has any (RFC 8659 §3). Without an issue property everybody may (§4.2).
 * @param identities by which names the authority goes (RFC 8555 §9.7.6, caaIdentities)
 * @returns who may instead, as the records name them, empty where nobody may; null: the authority may
 */
export function caaForbids(records: readonly CaaRecord[], identities: readonly string[]): string[] | null {
  const issue = records.filter(({ tag }) => tag.toLowerCase() === 'issue');
  if (issue.length === 0) return null;
  // Parameters follow the name behind a semicolon; a semicolon alone is nobody (§4.2).
  const named = issue.map(({ value }) => (value.split(';')[0] as string).trim().toLowerCase());
  if (named.some((name) => identities.some((own) => own.toLowerCase() === name))) return null;
  return [...new Set(named.filter((name) => name !== ''))];
}

/** The name itself and those above it, the closest first: where CAA records are looked for (RFC 8659 §3). */
export function namesAbove(host: string): string[] {
  const labels = host.replace(/^\*\./, '').replace(/\.$/, '').split('.');
  return labels.map((_, i) => labels.slice(i).join('.'));
}

/** When an authority would like a certificate to be renewed (RFC 9773 §4.2). */
export interface RenewalWindow {
  start: Instant;
  end: Instant;
}

/**
 * The moment within the window at which this server renews: any is as good as another, so that not everybody comes at
 * once (RFC 9773 §4.2).
 * @param chance at least 0, less than 1
 */
export function renewsWithin({ start, end }: RenewalWindow, chance: number): Instant {
  return start + Math.floor(Math.max(0, end - start) * chance);
}

/** Asked again at the least and at the most so long after (RFC 9773 §4.3.2 suggests limits of a minute and a day). */
const ASK_LEAST_MS = 60_000;
const ASK_MOST_MS = 86_400_000;
/** Without a word of the authority, every six hours (RFC 9773 §4.3.2). */
const ASK_USUALLY_MS = 6 * 3_600_000;

/** How long until an authority is asked again for the window. @param retryAfterMs what it said; null: nothing */
export function asksAgainMs(retryAfterMs: number | null): number {
  return Math.min(ASK_MOST_MS, Math.max(ASK_LEAST_MS, retryAfterMs ?? ASK_USUALLY_MS));
}
