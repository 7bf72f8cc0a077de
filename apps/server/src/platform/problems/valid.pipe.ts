import { Injectable, type PipeTransform } from '@nestjs/common';
import { sentenceOf, type FieldFault } from '@quay/contract';
import type { ObjectSchema, Schema } from 'joi';
import { Problem } from './problem.js';

/** Validates what comes from outside with a schema of the contract, converts it and drops nothing silently. */
@Injectable()
export class ValidPipe<T> implements PipeTransform<unknown, T> {
  constructor(private readonly schema: Schema<T>) {}

  transform(value: unknown): T {
    requireText(value);
    const result = this.schema.validate(value ?? {}, {
      abortEarly: false,
      convert: true,
      errors: { wrap: { label: false } },
    });
    if (!result.error) return result.value;
    const errors = result.error.details.map<FieldFault>((d) => ({
      field: d.path.join('.'),
      code: codeOf(d.type, d.path),
      detail: d.message,
    }));
    const first = errors[0] as FieldFault;
    throw new Problem('invalid', first.code, sentenceOf(first.detail), { errors });
  }
}

/** Deeper than any request of ours. */
const MOST_LEVELS = 20;

/**
 * What no schema could keep: text that is not Unicode, or holds NUL, which the database has no place for (PostgreSQL
 * §8.3); and nesting without end.
 */
function requireText(value: unknown, levels = 0): void {
  if (typeof value === 'string') {
    if (value.includes('\0') || !value.isWellFormed())
      throw new Problem('invalid', 'request.not-text', 'The request holds characters that are no text.');
    return;
  }
  if (typeof value !== 'object' || value === null) return;
  if (levels > MOST_LEVELS) throw new Problem('invalid', 'request.too-deep', 'The request is nested too deeply.');
  for (const [key, part] of Object.entries(value)) {
    requireText(key);
    requireText(part, levels + 1);
  }
}

/** The pipe for a schema: `@Body(valid(schema))`. */
export function valid<T>(schema: ObjectSchema<T> | Schema<T>): ValidPipe<T> {
  return new ValidPipe(schema as Schema<T>);
}

// The core's rules bring their own codes ("name.reserved"); what Joi finds by itself is named by the field.
function codeOf(type: string, path: (string | number)[]): string {
  if (type.startsWith('name.') || type.startsWith('time.')) return type;
  // Of names that somebody made up, what a code can hold.
  const names = path.filter((p) => typeof p === 'string').map((p) => p.replace(/[^\w-]/g, '').slice(0, 60));
  const field = names.filter((name) => name !== '').join('.') || 'request';
  const reason = type.replace(/^[a-z]+\./, '').replace(/([A-Z])/g, (c) => `-${c.toLowerCase()}`);
  return `${field}.${reason}`;
}
