import { DUTY_WORDS, type Duty } from '@quay/core';
import { Problem } from '../platform/problems/problem.js';
import type { Who } from './who.js';

export const hasDuty = (who: Pick<Who, 'duties'>, duty: Duty): boolean => who.duties.includes(duty);

/** @throws Problem duty.missing */
export function requireDuty(who: Pick<Who, 'duties'>, duty: Duty): void {
  if (hasDuty(who, duty)) return;
  throw new Problem('forbidden', 'duty.missing', `That is for those who ${DUTY_WORDS[duty]}.`, { duty });
}

/** @throws Problem staff.only: guests see what was given to them, and nothing of the office */
export function requireStaff(who: Pick<Who, 'role'>): void {
  if (who.role === 'guest') throw new Problem('forbidden', 'staff.only', 'That is for people of the office.');
}

/** @throws Problem person.admins-only: else whoever looks after people could make themselves more than they are */
export function requireAdmin(who: Pick<Who, 'role'>): void {
  if (who.role === 'admin') return;
  throw new Problem(
    'forbidden',
    'person.admins-only',
    'Only an admin changes what an admin is, and who has which duty.',
  );
}
