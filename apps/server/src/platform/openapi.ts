import { SetMetadata } from '@nestjs/common';
import type { ObjectSchema } from 'joi';

/** What is told of an endpoint, from which `api-docs.ts` makes its page. */
export interface Told {
  summary: string;
  body?: ObjectSchema;
  query?: ObjectSchema;
}

const TOLD = 'quay:told';
const BYTES = 'quay:bytes';
const PART = 'quay:part';

/** Documents an endpoint: one line of purpose, and the very schemas that its body and its query are validated with. */
export function Operation(summary: string, body?: ObjectSchema, query?: ObjectSchema): MethodDecorator {
  return SetMetadata(TOLD, { summary, body, query } satisfies Told);
}

/** The body of an endpoint is bytes of this type. */
export const TakesBytes = (mediaType: string): MethodDecorator => SetMetadata(BYTES, mediaType);

/** The part of the API that a controller's endpoints are listed under. */
export const ApiPart = (name: string): ClassDecorator => SetMetadata(PART, name);

export const operationOf = (handler: object): Told | undefined =>
  Reflect.getMetadata(TOLD, handler) as Told | undefined;

export const bytesOf = (handler: object): string | undefined =>
  Reflect.getMetadata(BYTES, handler) as string | undefined;

export const partOf = (controller: object): string | undefined =>
  Reflect.getMetadata(PART, controller) as string | undefined;
