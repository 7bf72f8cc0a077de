import type { Me } from '@quay/contract';

const EVERY_PLACE: [path: string, name: string, isFor: (me: Me) => boolean][] = [
  // Guests publish nothing, and begin with what they were let into.
  ['/today', 'Today', (me) => me.role !== 'guest'],
  ['/stores', 'Stores', () => true],
  ['/shares', 'Shares', (me) => me.duties.includes('publish-outside')],
  ['/intakes', 'Intakes', (me) => me.duties.includes('ask-outside')],
  ['/reach', 'Reach', (me) => me.duties.includes('run-reach')],
  ['/people', 'People', (me) => me.duties.includes('run-people') || me.managesGroups],
  ['/ledger', 'Ledger', (me) => me.role !== 'guest'],
];

/** The places that somebody has anything to do in. */
export const placesOf = (me: Me): { path: string; name: string }[] =>
  EVERY_PLACE.filter(([, , isFor]) => isFor(me)).map(([path, name]) => ({ path, name }));
