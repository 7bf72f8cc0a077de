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

/** Those that have their decorators: a page that could not be made the first time is made without them twice. */
const described = new WeakSet<Type>();

/** Gives a controller and its handlers the decorators that the page is made from. */
function tell(controller: Type): void {
  if (described.has(controller)) return;
  const prototype = controller.prototype as object;
  const handlers = Object.entries(Object.getOwnPropertyDescriptors(prototype)).filter(
    ([, property]) => typeof property.value === 'function',
  );
  // What may fail is done before anything is put on.
  const found = handlers.map(([name, property]) => ({ name, property, parts: decoratorsOf(property.value as object) }));
  described.add(controller);
  const part = partOf(controller);
  if (part) ApiTags(part)(controller);
  for (const { name, property, parts } of found) for (const decorator of parts) decorator(prototype, name, property);
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
