import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex } from '@noble/hashes/utils.js';
import canonicalizeModule from 'canonicalize';
import type { Actor } from '../access/actor.js';
import { utf8Bytes } from '../text/utf8.js';

const canonicalize = canonicalizeModule as unknown as (value: unknown) => string | undefined;

/** What one entry of the ledger says. Every value is JSON; `at` is RFC 3339 in UTC with milliseconds. */
export interface LedgerBody {
  seq: number;
  at: string;
  kind: string;
  actor: { kind: Actor['kind']; id: string | null; name: string };
  shareId: string | null;
  nodeId: string | null;
  detail: Record<string, string | number | boolean | null>;
}

/** A body with its place in the chain: hex SHA-256 values. */
export interface LedgerLink {
  body: LedgerBody;
  prevHash: string;
  hash: string;
}

/** What the first entry names as its predecessor. */
export const GENESIS_HASH = '0'.repeat(64);

/** Canonical JSON (RFC 8785). @throws TypeError when the value is not JSON. */
export function canonicalJson(value: unknown): string {
  const text = canonicalize(value);
  if (text === undefined) throw new TypeError('not a JSON value');
  return text;
}

/** Hex SHA-256 over the canonical JSON of {body, prevHash}: what the next entry carries. */
export function ledgerHash(body: LedgerBody, prevHash: string): string {
  return bytesToHex(sha256(utf8Bytes(canonicalJson({ body, prevHash }))));
}

export type ChainFault = { seq: number; fault: 'altered' | 'gap' | 'not-linked' };

/** Checks entries in order against `from` (the hash before the first of them). Null when the chain holds. */
export function verifyChain(entries: Iterable<LedgerLink>, from = GENESIS_HASH, firstSeq = 1): ChainFault | null {
  let prev = from;
  let seq = firstSeq;
  for (const entry of entries) {
    if (entry.body.seq !== seq) return { seq, fault: 'gap' };
    if (entry.prevHash !== prev) return { seq, fault: 'not-linked' };
    if (ledgerHash(entry.body, entry.prevHash) !== entry.hash) return { seq, fault: 'altered' };
    prev = entry.hash;
    seq += 1;
  }
  return null;
}
