import { FACTOR_CODE } from '@quay/core';
import { generateSecret, generateURI, verify } from 'otplib';

/** 160 bits, as RFC 4226 §4 (R6) recommends, in the letters that authenticators take (RFC 4648 §6). */
export const newFactorSecret = (): string => generateSecret({ length: 20 });

/** What an authenticator reads from a QR code: the office and the name by which somebody signs in there. */
export const factorUri = (secret: string, office: string, signInName: string): string =>
  generateURI({ issuer: office, label: signInName, secret });

/**
 * The step of time that a code belongs to (RFC 6238); null when it is no code of this secret now, or of a step that was
 * used before: each code is good once (§5.2).
 * @param atMs milliseconds since 1970
 * @param lastStep the newest step that was used; null: none was
 */
export async function factorStepOf(
  secret: string,
  code: string,
  atMs: number,
  lastStep: number | null,
): Promise<number | null> {
  const epoch = Math.floor(atMs / 1000);
  const found = await verify({
    secret,
    token: code,
    epoch,
    period: FACTOR_CODE.stepSeconds,
    epochTolerance: FACTOR_CODE.driftSeconds,
  });
  if (!found.valid) return null;
  const step = Math.floor(epoch / FACTOR_CODE.stepSeconds) + found.delta;
  // Compared here, because the library throws when a clock was set back.
  return lastStep !== null && step <= lastStep ? null : step;
}
