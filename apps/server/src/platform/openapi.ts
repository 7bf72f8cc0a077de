import { applyDecorators, SetMetadata } from '@nestjs/common';
import { ApiBody, ApiOperation, ApiQuery, type ApiBodyOptions } from '@nestjs/swagger';
import type { ObjectSchema } from 'joi';
import toOpenApi from 'joi-to-swagger';

type SchemaOf = (schema: ObjectSchema) => { swagger: { properties?: Record<string, object>; required?: string[] } };
const describe = toOpenApi as unknown as SchemaOf;

const SCHEMAS = 'quay:schemas';

/** The schemas that an endpoint takes its body and its query by. */
export function schemasOf(handler: object): { body?: ObjectSchema; query?: ObjectSchema } {
  return (Reflect.getMetadata(SCHEMAS, handler) ?? {}) as { body?: ObjectSchema; query?: ObjectSchema };
}

/** Documents an endpoint: one line of purpose and, from the very schema it is validated with, its body or its query. */
export function Takes(summary: string, body?: ObjectSchema, query?: ObjectSchema): MethodDecorator {
  const parts: MethodDecorator[] = [ApiOperation({ summary }), SetMetadata(SCHEMAS, { body, query })];
  if (body) parts.push(ApiBody({ schema: describe(body).swagger } as ApiBodyOptions));
  if (query) {
    const { properties = {}, required = [] } = describe(query).swagger;
    for (const [name, schema] of Object.entries(properties))
      parts.push(ApiQuery({ name, required: required.includes(name), schema: schema as never }));
  }
  return applyDecorators(...parts);
}
