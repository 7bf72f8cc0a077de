import { invalidField, type Problem } from './problems/problem.js';

/** The longest text that a place in a list may name. */
const MOST_TEXT = 1000;

const MOMENT = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}\.\d{1,6}Z$/;

/** What stands for a moment in a place: RFC 3339 in UTC, to the microsecond, of a day that the calendar has. */
export function isMoment(text: string): boolean {
  const at = MOMENT.test(text) ? Date.parse(`${text.slice(0, 19)}Z`) : NaN;
  return !Number.isNaN(at) && new Date(at).toISOString().slice(0, 19) === text.slice(0, 19);
}

/** A column as {@link isMoment} has it. */
export const momentText = (column: string): string =>
  `to_char(${column} AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`;

/**
 * A place in a list as one word: what it was sorted by goes along, so that it is never taken for one in another order.
 */
export const placeText = (values: readonly unknown[]): string =>
  Buffer.from(JSON.stringify(values)).toString('base64url');

/** What a place says, unjudged. @throws Problem after.invalid */
export function placeValues(text: string): unknown[] {
  try {
    const values: unknown = JSON.parse(Buffer.from(text, 'base64url').toString('utf8'));
    if (Array.isArray(values)) return values;
  } catch {
    // falls through to the refusal
  }
  throw unknownPlace();
}

export const unknownPlace = (): Problem =>
  invalidField('after', 'after.invalid', 'This place in the list is not known. Start from the top.');

/** Whether something in a place is a text that the database can take. */
export const isPlaceText = (value: unknown): value is string =>
  typeof value === 'string' && value.length <= MOST_TEXT && value.isWellFormed() && !value.includes('\0');
