import { STRONG_ENOUGH_SCORE, WINDOW_FAULT_WORDS, windowFault, type AudienceKind, type Window } from '@quay/core';
import type { WindowText } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { passwordStrengthAside } from '../platform/strength.js';

// What shares and intakes have in common: a window, a password, an address that the link is built on.

export function windowOf(text: WindowText): Window {
  return {
    opensAt: text.opensAt === null ? null : Date.parse(text.opensAt),
    closesAt: text.closesAt === null ? null : Date.parse(text.closesAt),
  };
}

export const dateOf = (at: number | null): Date | null => (at === null ? null : new Date(at));

/** @throws Problem window.* at the field */
export function requireSoundWindow(window: Window, now: number): void {
  const fault = windowFault(window, now);
  if (fault) throw invalidField('window.closesAt', fault, WINDOW_FAULT_WORDS[fault]);
}

/**
 * @returns how hard it is to guess, from 0 to 4; null: there is none
 * @throws Problem password.weak, unless it is meant
 */
export async function requireStrongPassword(
  asked: { password: string | null; weakPasswordMeant: boolean },
  title: string,
): Promise<number | null> {
  if (asked.password === null) return null;
  const { score } = await passwordStrengthAside(asked.password, [title]);
  if (score < STRONG_ENOUGH_SCORE && !asked.weakPasswordMeant)
    throw invalidField(
      'password',
      'password.weak',
      'That password is easy to guess. Take the proposed one, or say that you mean it.',
    );
  return score;
}

/**
 * The address that a link is built on: the one that is asked for, else the office's own.
 * @throws Problem address.none, address.gone, address.no-sign-in
 */
export async function addressFor(
  tx: EntityManager,
  asked: string | undefined,
  audience?: AudienceKind,
): Promise<string> {
  const which = asked ? 'id = $1' : '$1::uuid IS NULL AND is_default';
  const [row] = await tx.query<{ id: string; uses: string }[]>(
    `SELECT id, uses FROM address WHERE ${which} FOR SHARE`,
    [asked ?? null],
  );
  if (row?.uses === 'visitors' && audience === 'members')
    throw invalidField(
      'addressId',
      'address.no-sign-in',
      'Nobody signs in at that address, so people of the office could not open it there. Choose another, or let it be used for sign-in under Reach.',
    );
  if (!row && asked)
    throw invalidField('addressId', 'address.gone', 'That address is not there any more. Choose another.');
  if (!row) throw new Problem('conflict', 'address.none', 'There is no address yet that links could be built on.');
  return row.id;
}
