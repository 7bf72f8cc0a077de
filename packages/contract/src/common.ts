import { nameFault, NAME_FAULT_WORDS, normalizeName } from '@quay/core';
import Joi from 'joi';

const UUID = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/;

/** RFC 9562 UUID, any version, in its plain form: without braces, brackets or other decoration. */
export const idSchema = Joi.string()
  .lowercase()
  .custom((value: string, helpers) => (UUID.test(value) ? value : helpers.error('string.guid')))
  .messages({ 'string.guid': 'That is not an id.' });

export const isId = (value: unknown): value is string => typeof value === 'string' && UUID.test(value);

// RFC 3339 §5.6: four digits of a year, and always a zone.
const RFC_3339 = /^(\d{4})-\d{2}-\d{2}T\d{2}:\d{2}(:\d{2}(\.\d{1,9})?)?(Z|[+-]\d{2}:\d{2})$/i;
const WITHOUT_ZONE = /^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?$/i;
/** Years that anything here can be about. */
const YEARS = { first: 1970, last: 9000 } as const;

/** An RFC 3339 time with its zone, as text. A time without one means another moment on every clock. */
export const timeSchema = Joi.string()
  .max(40)
  .custom((value: string, helpers) => {
    if (WITHOUT_ZONE.test(value)) return helpers.error('time.no-zone');
    const year = Number(RFC_3339.exec(value)?.[1]);
    const known = !Number.isNaN(Date.parse(value)) && isInCalendar(value);
    return known && year >= YEARS.first && year <= YEARS.last ? value : helpers.error('string.isoDate');
  })
  .messages({
    'time.no-zone': 'A time is written with its zone, as in 2026-12-01T17:00:00Z.',
    'string.isoDate': 'There is no such moment. A time is written as in 2026-12-01T17:00:00Z.',
  });

/** Whether the calendar has that day: 30 February would otherwise quietly be 2 March. */
function isInCalendar(value: string): boolean {
  const [year, month, day] = value.slice(0, 10).split('-').map(Number) as [number, number, number];
  const date = new Date(Date.UTC(year, month - 1, day));
  return date.getUTCMonth() === month - 1 && date.getUTCDate() === day;
}

/** A file or folder name: normalised to NFC, then judged by the core's rule; the error code is the rule's own. */
export const nameSchema = Joi.string()
  .max(2000)
  .custom((value: string, helpers) => {
    const name = normalizeName(value);
    const fault = nameFault(name);
    return fault ? helpers.error(fault) : name;
  })
  .messages({ ...NAME_FAULT_WORDS, 'string.empty': NAME_FAULT_WORDS['name.empty'] });

/** Text of one line, trimmed, without control characters. */
export const lineSchema = Joi.string()
  .trim()
  // eslint-disable-next-line no-control-regex
  .pattern(/^[^\u0000-\u001f\u007f]*$/)
  .messages({ 'string.pattern.base': 'The text contains an invisible control character.' });
