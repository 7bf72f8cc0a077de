import { Injectable, type PipeTransform } from '@nestjs/common';
import type { FieldFault } from '@quay/contract';
import type { ObjectSchema, Schema } from 'joi';
import { Problem } from './problem.js';

/** Validates what comes from outside with a schema of the contract, converts it and drops nothing silently. */
@Injectable()
export class ValidPipe<T> implements PipeTransform<unknown, T> {
  constructor(private readonly schema: Schema<T>) {}

  transform(value: unknown): T {
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
    throw new Problem('invalid', first.code, sentence(first.detail), { errors });
  }
}

/** The pipe for a schema: `@Body(valid(schema))`. */
export function valid<T>(schema: ObjectSchema<T> | Schema<T>): ValidPipe<T> {
  return new ValidPipe(schema as Schema<T>);
}

// The core's rules bring their own codes ("name.reserved"); what Joi finds by itself is named by the field.
function codeOf(type: string, path: (string | number)[]): string {
  if (type.startsWith('name.')) return type;
  const field = path.filter((p) => typeof p === 'string').join('.') || 'request';
  const reason = type.replace(/^[a-z]+\./, '').replace(/([A-Z])/g, (c) => `-${c.toLowerCase()}`);
  return `${field}.${reason}`;
}

function sentence(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}${/[.!?]$/.test(text) ? '' : '.'}`;
}
