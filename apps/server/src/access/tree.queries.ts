/**
 * The steps of every recursive query through the tree, written once. A step as a plain join lets the planner expect
 * thousands of rows at each and read the whole table for it (240 ms instead of 4 among a million items); asked
 * laterally, and not flattened because of OFFSET 0, it can only use the index.
 */

/** Conditions on an item, called `c`, that a step goes on to. */
export const LIVE = 'c.trashed_at IS NULL';
export const SHOWN = 'c.trashed_at IS NULL AND NOT c.litter';
export const NOT_PURGED = 'c.purged_at IS NULL';

/** From the rows called `from` to the items in them that a condition holds for. */
export const stepDown = (condition: string | null, { from = 'down', to = 'n' } = {}): string =>
  `${from} CROSS JOIN LATERAL (
     SELECT * FROM node c
       WHERE c.parent_id = ${from}.id${condition === null ? '' : ` AND ${condition}`} OFFSET 0) ${to}`;

/** From the rows called `from` to the folders that they lie in. */
export const stepUp = ({ from = 'up', to = 'n' } = {}): string =>
  `${from} CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = ${from}.parent_id OFFSET 0) ${to}`;

/**
 * From rows that name an item to that item. A join lets the planner read every item there is, to look for a few of
 * them.
 */
export const itemOf = (id: string, to = 'n'): string =>
  `CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = ${id} OFFSET 0) ${to}`;
