import { describe, expect, it } from 'vitest';
import { peopleFindings, type FindingPerson } from './findings.js';

// What is worth a look, and when: common practice, no source.
const NOW = Date.parse('2026-11-28T12:00:00Z');
const DAY = 86_400_000;
const person = (id: string, part: Partial<FindingPerson> = {}): FindingPerson => ({
  ...{ id, role: 'staff', state: 'usable', lastSeenAt: NOW, sponsorId: null, endsAt: null, quietDays: null },
  ...part,
});
const guest = (part: Partial<FindingPerson>) => person('guest', { role: 'guest', sponsorId: 'tomas', ...part });
const tomas = person('tomas');
const kinds = (people: FindingPerson[]) => peopleFindings(people, [], NOW).map((f) => f.kind);

describe('of people needs a hand', () => {
  it('nothing, where staff come and go and guests have somebody who answers for them', () => {
    expect(
      kinds([tomas, person('ada', { state: 'invited' }), guest({ endsAt: NOW + 8 * DAY, quietDays: 30 })]),
    ).toEqual([]);
  });
  it('a guest whose account ends within a week, by whichever rule is first', () => {
    expect(peopleFindings([tomas, guest({ endsAt: NOW + 7 * DAY, quietDays: 30 })], [], NOW)).toEqual([
      { kind: 'guest-ends', personId: 'guest', at: NOW + 7 * DAY, why: 'day' },
    ]);
    const quiet = guest({ endsAt: NOW + 6 * DAY, lastSeenAt: NOW - 28 * DAY, quietDays: 30 });
    expect(peopleFindings([tomas, quiet], [], NOW)).toEqual([
      { kind: 'guest-ends', personId: 'guest', at: NOW + 2 * DAY, why: 'quiet' },
    ]);
    // One that was never here has no visit to count from; one that has ended is past mending here.
    expect(kinds([tomas, guest({ lastSeenAt: null, quietDays: 3 })])).toEqual([]);
    expect(kinds([tomas, guest({ endsAt: NOW })])).toEqual([]);
    expect(kinds([tomas, guest({ endsAt: NOW + DAY, state: 'disabled' })])).toEqual([]);
  });
  it('a guest for whom nobody answers who has an account', () => {
    expect(kinds([guest({ sponsorId: null })])).toEqual(['guest-alone']);
    expect(kinds([person('tomas', { state: 'disabled' }), guest({})])).toEqual(['guest-alone']);
  });
  it('what harms most comes first, then what is next', () => {
    const found = peopleFindings(
      [
        tomas,
        { ...guest({ endsAt: NOW + 5 * DAY }), id: 'b' },
        { ...guest({ endsAt: NOW + DAY }), id: 'a' },
        guest({ sponsorId: null }),
      ],
      [{ personId: 'bram', grantId: 'g' }],
      NOW,
    );
    expect(found.map((f) => `${f.kind} ${f.personId}`)).toEqual([
      'kept bram',
      'guest-alone guest',
      'guest-ends a',
      'guest-ends b',
    ]);
  });
});
