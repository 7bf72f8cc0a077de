import type { Role } from '../access/duty.js';

/** From whom a second factor is wanted, each with everybody before it. */
export const FACTOR_WANTED = ['nobody', 'admins', 'staff', 'everybody'] as const;
export type FactorWanted = (typeof FACTOR_WANTED)[number];

export const FACTOR_WANTED_WORDS: Record<FactorWanted, string> = {
  nobody: 'nobody; whoever wants one has one',
  admins: 'admins',
  staff: 'everybody of the office',
  everybody: 'everybody, guests too',
};

/** Who may sign in, and stay signed in, from outside the office. */
export const SIGN_IN_OUTSIDE = ['everybody', 'factor', 'nobody'] as const;
export type SignInOutside = (typeof SIGN_IN_OUTSIDE)[number];

export const SIGN_IN_OUTSIDE_WORDS: Record<SignInOutside, string> = {
  everybody: 'everybody',
  factor: 'whoever has a second factor',
  nobody: 'nobody',
};

/** Whether somebody has to have a second factor. */
export function factorIsWanted(wanted: FactorWanted, role: Role): boolean {
  if (wanted === 'everybody') return true;
  if (wanted === 'staff') return role !== 'guest';
  return wanted === 'admins' && role === 'admin';
}

/** Days that people may be given to set one up. */
export const FACTOR_GRACE_RANGE = { min: 0, max: 90, whole: true } as const;
const DAY_MS = 86_400_000;

/**
 * From when on somebody comes no further without a second factor: so many days after it was wanted of people like them,
 * or after they became one of them. @returns null: none is wanted of them
 */
export function factorDueAt(
  rule: { factorWanted: FactorWanted; factorGraceDays: number; wantedSince: number | null },
  person: { role: Role; since: number },
): number | null {
  if (!factorIsWanted(rule.factorWanted, person.role)) return null;
  return Math.max(rule.wantedSince ?? 0, person.since) + rule.factorGraceDays * DAY_MS;
}

/** Whether somebody may be signed in where they are. */
export function mayBeSignedIn(
  rule: SignInOutside,
  { outside, factor }: { outside: boolean; factor: boolean },
): boolean {
  return !outside || rule === 'everybody' || (rule === 'factor' && factor);
}

/**
 * The parameters that every authenticator understands (RFC 6238 §4: steps of 30 s; RFC 4226 §5.3: at least 6 digits),
 * and how far a clock may be off: one step, as RFC 6238 §5.2 recommends.
 */
export const FACTOR_CODE = { digits: 6, stepSeconds: 30, driftSeconds: 30 } as const;

/** Letters and digits that cannot be taken for each other. */
const RECOVERY_LETTERS = 'abcdefghjkmnpqrstuvwxyz23456789';
const RECOVERY_LENGTH = 10;
/** How many recovery codes somebody gets. */
export const RECOVERY_CODES = 10;

/**
 * Codes that are each good once, for whoever lost their authenticator: 49.5 bits each ("h4mpx-9kd2r"). Of bytes, the
 * eight highest are not used, so that each letter is as likely as any other.
 * @param random a source of single random bytes from a cryptographic generator, as many as are asked for
 */
export function recoveryCodesFrom(random: () => number): string[] {
  const fair = 256 - (256 % RECOVERY_LETTERS.length);
  const letter = (): string => {
    for (;;) {
      const byte = random();
      if (byte < fair) return RECOVERY_LETTERS[byte % RECOVERY_LETTERS.length] as string;
    }
  };
  const half = (): string => Array.from({ length: RECOVERY_LENGTH / 2 }, letter).join('');
  return Array.from({ length: RECOVERY_CODES }, () => `${half()}-${half()}`);
}

/** What was typed as a code: of the authenticator, for recovery, or neither. Spaces, hyphens and capitals do not count. */
export function readFactorCode(typed: string): { kind: 'code' | 'recovery'; code: string } | null {
  const code = typed.toLowerCase().replace(/[\s-]/g, '');
  if (/^\d{6}$/.test(code)) return { kind: 'code', code };
  const isRecovery = code.length === RECOVERY_LENGTH && [...code].every((letter) => RECOVERY_LETTERS.includes(letter));
  return isRecovery ? { kind: 'recovery', code } : null;
}
