import type { Instant } from '../text/when.js';
import { holdsAt, overlap, type Period } from './period.js';

/** That somebody, or a group, is in a group for a time. */
export interface Membership extends Period {
  groupId: string;
  member: { kind: 'person' | 'group'; id: string };
}

/** A group and the time during which it gives anything; groups end, they never vanish. */
export interface GroupFact extends Period {
  id: string;
  name: string;
}

/** A time during which somebody is in a group, and the groups it is through, theirs first. */
export interface InGroup extends Period {
  groupId: string;
  through: string[];
}

/** Who asks, with everything dated that access depends on. */
export interface Asker {
  personId: string;
  /** When they were a guest: guests are not staff, and what is granted to all staff is not granted to them. */
  guest: readonly Period[];
  /** When the account could be used: from its beginning, without the times it was disabled, to its end. */
  account: readonly Period[];
  admin: readonly Period[];
  groups: readonly InGroup[];
}

export const isGuestAt = ({ guest }: Asker, at: Instant): boolean => guest.some((span) => holdsAt(span, at));

/**
 * Every way in which a person, or a group, is in a group, directly or through groups in groups. A way holds while every
 * step of it does and none of its groups has ended. Circles are refused where groups are put together; one that was
 * there all the same ends at the first group that comes twice.
 */
export function groupsOf(
  member: Membership['member'],
  memberships: readonly Membership[],
  groups: readonly GroupFact[],
): InGroup[] {
  return waysIn(memberships, groups)(member);
}

/** The same for many, who share most of their ways: what a group is in is worked out once. */
export function waysIn(
  memberships: readonly Membership[],
  groups: readonly GroupFact[],
): (member: Membership['member']) => InGroup[] {
  const known = new Map(groups.map((g) => [g.id, g]));
  const into = new Map<string, Membership[]>();
  for (const m of memberships) {
    const key = memberKey(m.member);
    const there = into.get(key);
    if (there) there.push(m);
    else into.set(key, [m]);
  }
  const walk = (key: string, span: Period, through: string[], found: InGroup[]): InGroup[] => {
    for (const m of into.get(key) ?? []) {
      const group = known.get(m.groupId);
      const step = group && !through.includes(m.groupId) ? overlap(m, group) : null;
      const held = step && overlap(span, step);
      if (!held) continue;
      const path = [...through, m.groupId];
      found.push({ groupId: m.groupId, through: path, ...held });
      walk(memberKey({ kind: 'group', id: m.groupId }), held, path, found);
    }
    return found;
  };
  return (member) => walk(memberKey(member), { since: -Infinity, until: null }, [], []);
}

/** Whether a group would be within itself if `member` were put into it. */
export const makesCircle = (groupId: string, member: string, memberships: readonly Membership[]): boolean =>
  circleThrough(groupId, member, memberships) !== null;

/**
 * The way round if `member` were put into a group: from the group through `member` and those in it back to the group;
 * null when there would be none. @returns ids, the first and the last the same
 */
export function circleThrough(groupId: string, member: string, memberships: readonly Membership[]): string[] | null {
  const seen = new Set<string>();
  const within = (id: string): string[] | null => {
    if (id === groupId) return [id];
    if (seen.has(id)) return null;
    seen.add(id);
    for (const m of memberships) {
      const way = m.groupId === id && m.member.kind === 'group' ? within(m.member.id) : null;
      if (way) return [...way, id];
    }
    return null;
  };
  const way = within(member);
  // Each is in the one after it.
  return way && [...way, groupId];
}

const memberKey = (member: Membership['member']): string => `${member.kind} ${member.id}`;
