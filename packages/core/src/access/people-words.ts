import { countOf } from '../text/size.js';
import type { Instant } from '../text/when.js';
import type { Role } from './duty.js';

const WEEK_MS = 7 * 86_400_000;

/** An account, as far as the title counts it. */
export interface CountedPerson {
  role: Role;
  state: 'usable' | 'invited' | 'disabled';
  endsAt: Instant | null;
}

/** Who is there, in words: "11 staff, 6 guests, 2 end this week." */
export function peopleWords(people: readonly CountedPerson[], now: Instant): string {
  const there = people.filter((p) => p.state !== 'disabled');
  const guests = there.filter((p) => p.role === 'guest').length;
  const invited = there.filter((p) => p.state === 'invited').length;
  const ending = there.filter((p) => p.endsAt !== null && p.endsAt > now && p.endsAt <= now + WEEK_MS).length;
  return [
    `${there.length - guests} staff`,
    countOf(guests, 'guest'),
    ...(invited > 0 ? [`${invited} invited`] : []),
    ...(ending > 0 ? [`${ending} ${ending === 1 ? 'ends' : 'end'} this week`] : []),
  ]
    .join(', ')
    .concat('.');
}
