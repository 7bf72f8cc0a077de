import type { OrderStep, ProofKind } from '@quay/core';
import type { Client } from 'acme-client';
import { setTimeout as pause } from 'node:timers/promises';
import { log } from '../platform/log/log.js';
import { insideOf, retryAfterMs } from './authority.js';

/** An authority may look at a proof for as long as it likes; what took longer is not waited for. */
const WHOLE_MS = 15 * 60_000;
/** Without a word of the authority it is asked again after this, and then less and less often. */
const AGAIN_MS = { first: 500, most: 5000 } as const;
/** Whoever watches hears at least so often that somebody is at it. */
const BEAT_MS = 10_000;

/** How names are shown to be ours. */
export interface Proving {
  /** What can be shown for the name, the preferred first. */
  kinds: readonly ProofKind[];
  /** The proof can be looked at when this ends. */
  show: (kind: ProofKind, token: string, proof: string) => Promise<void>;
  hide: (kind: ProofKind, token: string) => Promise<void>;
}

export interface Wanted {
  host: string;
  /** PKCS#10, as PEM. */
  request: Buffer;
  /** The certificate that this one replaces, as RFC 9773 §4.1 names it; null: none. */
  replaces: string | null;
}

/** How far it has come; also said while nothing happens. @throws where it is not wanted any more */
export type Progress = (step: OrderStep, kind: ProofKind | null) => Promise<void>;

/** The authority has looked, and does not believe it. */
export class NotProven extends Error {
  constructor(
    readonly kind: ProofKind,
    message: string,
  ) {
    super(message);
  }
}

interface Told {
  status: string;
  error?: { type?: string; detail?: string };
  challenges?: { type: string; error?: { type?: string; detail?: string } }[];
}

/**
 * Orders a certificate by ACME (RFC 8555 §7.4). A proof that the authority does not believe is followed by an order with
 * the next kind of proof. @returns the chain, as PEM @throws Error with what the authority said
 */
export async function orderCertificate(
  client: Client,
  wanted: Wanted,
  proving: Proving,
  say: Progress,
): Promise<string> {
  const ends = Date.now() + WHOLE_MS;
  const refused: string[] = [];
  for (const kind of proving.kinds)
    try {
      return await orderBy(kind, client, wanted, proving, say, ends);
    } catch (error) {
      if (!(error instanceof NotProven)) throw error;
      refused.push(error.message);
    }
  throw new Error(refused.join('; ') || 'it offers no proof that can be shown here');
}

async function orderBy(
  kind: ProofKind,
  client: Client,
  wanted: Wanted,
  proving: Proving,
  say: Progress,
  ends: number,
): Promise<string> {
  await say('ordering', kind);
  const order = await ordered(client, wanted);
  for (const authorization of await client.getAuthorizations(order)) {
    if (authorization.status === 'valid') continue;
    const challenge = authorization.challenges.find(({ type }) => type === kind);
    if (!challenge) throw new NotProven(kind, `it does not take the proof ${kind}`);
    const proof = await client.getChallengeKeyAuthorization(challenge);
    await say('showing', kind);
    try {
      await proving.show(kind, challenge.token, proof);
      await say('looking', kind);
      await client.completeChallenge(challenge);
      const seen = await settled(
        client,
        authorization.url,
        ['pending', 'processing'],
        () => say('looking', kind),
        ends,
      );
      if (seen.status !== 'valid') throw new NotProven(kind, whyNot(kind, seen));
    } finally {
      await proving
        .hide(kind, challenge.token)
        .catch((error: unknown) => log.warn({ err: error, kind }, 'a proof could not be taken away again'));
    }
  }
  await say('making', kind);
  await client.finalizeOrder(order, wanted.request);
  const beat = () => say('making', kind);
  const made = await settled(client, order.url, ['pending', 'ready', 'processing'], beat, ends);
  if (made.status !== 'valid') throw new Error(made.error?.detail ?? `the order became ${made.status}`);
  return client.getCertificate({ ...order, ...made } as never);
}

/** An authority that does not take it that another is replaced is asked without saying so (RFC 9773 §5). */
async function ordered(client: Client, { host, replaces }: Wanted): ReturnType<Client['createOrder']> {
  const plain = { identifiers: [{ type: 'dns', value: host }] };
  if (replaces === null) return client.createOrder(plain);
  try {
    return await client.createOrder({ ...plain, replaces } as typeof plain);
  } catch (error) {
    if (!/replace/i.test((error as Error).message)) throw error;
    return client.createOrder(plain);
  }
}

/** Waits as long as the authority asks for (RFC 8555 §7.5.1) until something is no longer in one of the states. */
async function settled(
  client: Client,
  url: string,
  unsettled: string[],
  beat: () => Promise<void>,
  ends: number,
): Promise<Told> {
  for (let wait: number = AGAIN_MS.first; ; wait = Math.min(AGAIN_MS.most, wait * 2)) {
    const { data, headers } = await insideOf(client).api.apiRequest<Told>(url, null, [200]);
    if (!unsettled.includes(data.status)) return data;
    const next = Date.now() + (retryAfterMs(headers['retry-after']) ?? wait);
    if (next > ends) throw new Error(`it has not decided within ${WHOLE_MS / 60_000} minutes`);
    for (let left = next - Date.now(); left > 0; left = next - Date.now()) {
      await pause(Math.min(left, BEAT_MS));
      await beat();
    }
  }
}

/** What the authority itself said, whole. */
function whyNot(kind: ProofKind, { status, challenges = [] }: Told): string {
  const error = challenges.find((c) => c.type === kind)?.error ?? challenges.find((c) => c.error)?.error;
  const type = error?.type?.replace('urn:ietf:params:acme:error:', '');
  return error?.detail ? `${kind}: ${error.detail}${type ? ` (${type})` : ''}` : `${kind}: the proof became ${status}`;
}
