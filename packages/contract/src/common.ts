import { nameFault, NAME_FAULT_WORDS, normalizeName } from '@quay/core';
import Joi from 'joi';

/** RFC 9562 UUID, any version. */
export const idSchema = Joi.string().guid().lowercase();

/** An RFC 3339 time with zone, as text; null where it may be absent. */
export const timeSchema = Joi.string().isoDate();

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
// eslint-disable-next-line no-control-regex
export const lineSchema = Joi.string()
  .trim()
  .pattern(/^[^\u0000-\u001f\u007f]*$/)
  .messages({ 'string.pattern.base': 'The text contains an invisible control character.' });
