import type { Role } from '../access/duty.js';
import type { Instant } from '../text/when.js';

const DAY_MS = 86_400_000;
/** A guest's end is worth a look a week before it: their sponsor is told then, too. */
export const GUEST_ENDS_SOON_MS = 7 * DAY_MS;

/** An account, as far as findings depend on it. */
export interface FindingPerson {
  id: string;
  role: Role;
  state: 'usable' | 'invited' | 'disabled';
  lastSeenAt: Instant | null;
  sponsorId: string | null;
  endsAt: Instant | null;
  quietDays: number | null;
}

/**
 * What about people needs a hand. `kept`: they left a group and kept what it reaches; `guest-alone`: nobody who has an
 * account answers for them; `guest-ends`: the account ends within a week, on its day or for want of visits.
 */
export type PeopleFinding =
  | { kind: 'kept'; personId: string; grantId: string }
  | { kind: 'guest-alone'; personId: string }
  | { kind: 'guest-ends'; personId: string; at: Instant; why: 'day' | 'quiet' };

const HARM: Record<PeopleFinding['kind'], number> = { kept: 0, 'guest-alone': 1, 'guest-ends': 2 };

/** In order of harm; guests who end by which is first. */
export function peopleFindings(
  people: readonly FindingPerson[],
  kept: readonly { personId: string; grantId: string }[],
  now: Instant,
): PeopleFinding[] {
  const usable = new Set(people.filter((p) => p.state !== 'disabled').map((p) => p.id));
  const ofGuests = people
    .filter((p) => p.role === 'guest' && usable.has(p.id))
    .flatMap((guest): PeopleFinding[] => {
      const end = endOfGuest(guest);
      return [
        ...(guest.sponsorId === null || !usable.has(guest.sponsorId)
          ? [{ kind: 'guest-alone' as const, personId: guest.id }]
          : []),
        ...(end && end.at > now && end.at - now <= GUEST_ENDS_SOON_MS
          ? [{ kind: 'guest-ends' as const, personId: guest.id, ...end }]
          : []),
      ];
    });
  const ofKept = kept.map((k): PeopleFinding => ({ kind: 'kept', personId: k.personId, grantId: k.grantId }));
  const whenOf = (finding: PeopleFinding) => (finding.kind === 'guest-ends' ? finding.at : 0);
  return [...ofKept, ...ofGuests].sort((a, b) => HARM[a.kind] - HARM[b.kind] || whenOf(a) - whenOf(b));
}

/** When the account of a guest ends by itself, and by which rule; null: not, as far as is known. */
export function endOfGuest({
  lastSeenAt,
  endsAt,
  quietDays,
}: FindingPerson): { at: Instant; why: 'day' | 'quiet' } | null {
  const quiet = lastSeenAt === null || quietDays === null ? Infinity : lastSeenAt + quietDays * DAY_MS;
  if (endsAt !== null && endsAt <= quiet) return { at: endsAt, why: 'day' };
  return quiet === Infinity ? null : { at: quiet, why: 'quiet' };
}
