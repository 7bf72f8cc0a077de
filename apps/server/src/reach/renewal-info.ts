import { AuthorityKeyIdentifierExtension, X509Certificate } from '@peculiar/x509';
import type { RenewalWindow } from '@quay/core';
import { retryAfterMs } from './authority.js';

/**
 * How a certificate is named to the authority that it is of (RFC 9773 §4.1): the identifier of the authority's key and
 * the serial number. @param leaf as PEM, alone or the first of a chain @returns null where it names no such key
 */
export function renewalName(leaf: string): string | null {
  const certificate = new X509Certificate(leaf);
  const keyId = certificate.getExtension(AuthorityKeyIdentifierExtension)?.keyId;
  if (!keyId) return null;
  // The serial number is a signed number in DER: what would be negative has a zero before it.
  const digits = certificate.serialNumber;
  const serial = Buffer.from(/^[89a-f]/i.test(digits) ? `00${digits}` : digits, 'hex');
  return `${Buffer.from(keyId, 'hex').toString('base64url')}.${serial.toString('base64url')}`;
}

/** What an authority says of renewing. */
export interface RenewalWish {
  window: RenewalWindow;
  /** A page that tells why; null: none. */
  why: string | null;
  /** When it wants to be asked again, in milliseconds from now; null: it does not say. */
  askAgainMs: number | null;
}

/** Reads the answer of RFC 9773 §4.2; null: it says nothing that can be followed. */
export function readRenewalWish(text: string, retryAfter: string | undefined): RenewalWish | null {
  try {
    const { suggestedWindow, explanationURL } = JSON.parse(text) as Record<string, unknown>;
    const { start, end } = suggestedWindow as { start: string; end: string };
    const window = { start: Date.parse(start), end: Date.parse(end) };
    if (!(window.start < window.end)) return null;
    const why =
      typeof explanationURL === 'string' && /^https?:\/\/\S{1,500}$/.test(explanationURL) ? explanationURL : null;
    return { window, why, askAgainMs: retryAfterMs(retryAfter) };
  } catch {
    return null;
  }
}
