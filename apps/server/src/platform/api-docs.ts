import { type INestApplication, Module, type Type } from '@nestjs/common';
import { ModulesContainer, NestFactory } from '@nestjs/core';
import {
  ApiBody,
  type ApiBodyOptions,
  ApiConsumes,
  ApiOperation,
  ApiQuery,
  ApiTags,
  DocumentBuilder,
  SwaggerModule,
} from '@nestjs/swagger';
import type { RequestListener } from 'node:http';
import type { ObjectSchema } from 'joi';
import toOpenApi from 'joi-to-swagger';
import { bytesOf, partOf, operationOf } from './openapi.js';

type SchemaOf = (schema: ObjectSchema) => { swagger: { properties?: Record<string, object>; required?: string[] } };
const describe = toOpenApi as unknown as SchemaOf;

@Module({})
class NothingBeside {}

/**
 * The page of the API, as an application of its own that answers below /api/docs. It is loaded when somebody asks for
 * it: what it is made with takes longer to load than the rest of the framework.
 */
export async function apiDocs(app: INestApplication): Promise<RequestListener> {
  for (const controller of controllersOf(app)) tell(controller);
  const title = new DocumentBuilder()
    .setTitle('Lockfast Quay')
    .setDescription('Every refusal is application/problem+json (RFC 9457) with a stable `code`.')
    .setVersion('0.1')
    .addCookieAuth('quay_session');
  const document = SwaggerModule.createDocument(app, title.build());
  const beside = await NestFactory.create(NothingBeside, { logger: false, bodyParser: false });
  SwaggerModule.setup('api/docs', beside, document);
  await beside.init();
  return beside.getHttpAdapter().getInstance() as RequestListener;
}

function controllersOf(app: INestApplication): Set<Type> {
  const modules = [...app.get(ModulesContainer).values()];
  return new Set(modules.flatMap((module) => [...module.controllers.values()].map((c) => c.metatype as Type)));
}

/** Gives a controller and its handlers the decorators that the page is made from. */
function tell(controller: Type): void {
  const part = partOf(controller);
  if (part) ApiTags(part)(controller);
  const prototype = controller.prototype as object;
  for (const [name, property] of Object.entries(Object.getOwnPropertyDescriptors(prototype))) {
    if (typeof property.value !== 'function') continue;
    for (const decorator of decoratorsOf(property.value as object)) decorator(prototype, name, property);
  }
}

function decoratorsOf(handler: object): MethodDecorator[] {
  const told = operationOf(handler);
  const mediaType = bytesOf(handler);
  const parts: MethodDecorator[] = told ? [ApiOperation({ summary: told.summary })] : [];
  if (mediaType) parts.push(ApiConsumes(mediaType), ApiBody({ schema: { type: 'string', format: 'binary' } }));
  if (told?.body) parts.push(ApiBody({ schema: describe(told.body).swagger } as ApiBodyOptions));
  const { properties = {}, required = [] } = told?.query ? describe(told.query).swagger : {};
  for (const [name, schema] of Object.entries(properties))
    parts.push(ApiQuery({ name, required: required.includes(name), schema: schema as never }));
  return parts;
}
