import { trusted } from '@quay/probe';
import { X509Certificate } from 'node:crypto';

/** Chains that browsers take are shorter. */
const MOST = 8;
const CERTIFICATE = /-----BEGIN CERTIFICATE-----[^-]+-----END CERTIFICATE-----/g;

/**
 * Whether a chain ends at a root that is trusted here, each of its certificates signed by the next one.
 * @param chain PEM, the server's own certificate first
 * @param roots trusted besides the usual ones, as PEM
 */
export function isTrustedChain(chain: string, roots: readonly string[]): boolean {
  const [leaf, ...behind] = (chain.match(CERTIFICATE) ?? []).map((pem) => new X509Certificate(pem));
  const anchors = trusted(roots).map((pem) => new X509Certificate(pem));
  let at = leaf;
  for (let i = 0; at && i < MOST; i += 1) {
    const one: X509Certificate = at;
    const hasSigned = (by: X509Certificate) => one.checkIssued(by) && one.verify(by.publicKey);
    if (anchors.some(hasSigned)) return true;
    at = behind.find((by) => by !== one && hasSigned(by));
  }
  return false;
}
