import type { Description } from 'joi';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { EXAMPLES, makeThings, type Example, type Things } from './_fixtures/examples.js';
import { openOffice, type Client, type TestOffice } from './_fixtures/office.js';
import { declaredRoutes } from './platform/for.js';
import { operationOf } from './platform/openapi.js';

// Every route, with values that nobody expects in each place that its own schema names: a refusal has a code and words,
// and is never an error of ours (500), nor passed off as one of the disk or the database (503).

const TEXTS = [
  '\0',
  'a\0b',
  '\ud800',
  '\udfff\ud800',
  '￿',
  '[]',
  '../../etc/passwd',
  '%00',
  '{{link}}',
  "'; DROP TABLE node --",
  '\u202e',
  'x'.repeat(5000),
  '🜚'.repeat(300),
  ' ',
  '',
];
const NUMBERS = [
  NaN,
  -1,
  -0,
  1e308,
  2 ** 53,
  2 ** 63,
  2 ** 64,
  -(2 ** 63),
  0.1,
  '1,000',
  '0x10',
  '1e3',
  ' 7 ',
  '٣',
  null,
  [],
  {},
  '\0',
];
const TIMES = [
  '-271821-04-20T00:00:00.000Z',
  '+275760-09-13T00:00:00.000Z',
  '0000-01-01T00:00:00Z',
  '9999-12-31T23:59:59Z',
  '2026-11-24T10:00',
  '2026-11-24',
  '2026-02-30T10:00:00Z',
  '2026-11-24T25:00:00Z',
  '2026-11-24T10:00:00+99:99',
  'now',
  'infinity',
  '-infinity',
  'epoch',
  '\0',
];
const IDS = [
  '{6ba7b810-9dad-11d1-80b4-00c04fd430c8}',
  '[6ba7b810-9dad-11d1-80b4-00c04fd430c8]',
  '6ba7b8109dad11d180b400c04fd430c8',
  '(6ba7b810-9dad-11d1-80b4-00c04fd430c8)',
  '6BA7B810-9DAD-11D1-80B4-00C04FD430C8',
  '00000000-0000-0000-0000-000000000000',
  'ffffffff-ffff-ffff-ffff-ffffffffffff',
  'null',
  '\0',
  randomUUID(),
];
const OTHER: unknown[] = [null, true, [], {}, [[]], [null], { $ne: 1 }, 'text', 7];
const ARRAYS: unknown[] = [
  [],
  [null],
  [[]],
  [{}],
  ['\0'],
  Array.from({ length: 300 }, () => randomUUID()),
  'x',
  { length: 2 },
];

let office: TestOffice;
let iris: Client;
let things: Things;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  things = await makeThings(office, iris, office.roots.projects);
  await iris.ask('POST', `/s/${things.share.token}/open`, { password: null });
});
afterAll(() => office.close());

/** Values for one place of a schema. */
function hostile(d: Description & { type?: string; rules?: { name: string }[] }): unknown[] {
  if (d.type === 'array') return ARRAYS;
  if (d.type === 'number') return [...NUMBERS, ...OTHER];
  if (d.type === 'boolean') return ['yes', 1, ...OTHER];
  if (d.type !== 'string') return OTHER;
  if (JSON.stringify(d).includes('string.guid')) return [...IDS, ...OTHER];
  const dated = JSON.stringify(d).includes('time.');
  return [...(dated ? TIMES : []), ...TEXTS, ...OTHER];
}

/** The example with one place after the other set to something hostile, and everything at once. */
function variants(route: string): { method: string; path: string; body?: unknown; raw?: Buffer }[] {
  const method = route.split(' ')[0] as string;
  const { path, body, raw } = (EXAMPLES[route] as (t: Things) => Example)(things);
  const handler = declaredRoutes().get(route)?.handler as object;
  const { body: bodySchema, query: querySchema } = operationOf(handler) ?? {};
  const found: { method: string; path: string; body?: unknown; raw?: Buffer }[] = [];
  const [base, ...rest] = path.split('?') as [string, ...string[]];
  const query = new URLSearchParams(rest.join('?'));
  for (const [name, place] of Object.entries(keysOf(bodySchema)))
    for (const value of hostile(place)) found.push({ method, path, body: { ...body, [name]: value } });
  for (const [name, place] of Object.entries(keysOf(querySchema)))
    for (const value of hostile(place)) {
      const changed = new URLSearchParams(query);
      changed.set(name, typeof value === 'string' ? value.toWellFormed() : JSON.stringify(value));
      found.push({ method, path: `${base}?${changed.toString()}`, body, raw });
      found.push({ method, path: `${base}?${name}[]=1&${name}[x]=2&${name}=3&${name}=4`, body, raw });
    }
  // What stands in the path: ids, numbers, words.
  const parts = (route.split(' ')[1] as string).split('/');
  base.split('/').forEach((_, i) => {
    if (!parts[i]?.startsWith(':')) return;
    for (const value of [
      ...IDS,
      ...TEXTS.slice(0, 8),
      '-1',
      '0',
      '1e9',
      '99999999999999999999',
      '%',
      '%zz',
      '%ff%fe',
      'é',
    ])
      found.push({
        method,
        path:
          base
            .split('/')
            .map((part, at) => (at === i ? inPath(value) : part))
            .join('/') + (rest.length ? `?${query.toString()}` : ''),
        body,
        raw,
      });
  });
  for (const odd of [[], null, 'text', 7, { __proto__: { x: 1 } }, DEEP, { nodeIds: DEEP }])
    if (bodySchema) found.push({ method, path, body: odd });
  return found;
}

const keysOf = (schema: { describe: () => Description } | undefined): Record<string, Description> =>
  (schema?.describe() as { keys?: Record<string, Description> } | undefined)?.keys ?? {};
const inPath = (value: string): string =>
  /^%/.test(value) ? value : encodeURIComponent(value.toWellFormed()).slice(0, 3000) || '%20';

/** So deeply nested that only its text can be made here. */
const DEEP = { text: `${'['.repeat(5000)}1${']'.repeat(5000)}` };

/** A body as it is sent. */
const asJson = (value: unknown): string =>
  JSON.stringify(value, (_, part: unknown) => (part === DEEP ? 'DEEP' : part))?.replace('"DEEP"', DEEP.text) ?? 'null';

/** Ends or replaces what the others need: asked last, or as somebody who does not matter. */
const NOT_ASKED = new Set([
  'GET /api/events',
  'GET /s/:token/events',
  'DELETE /api/session',
  'POST /api/scrub',
  'POST /api/export',
]);

describe('hostile values', () => {
  it.each(Object.keys(EXAMPLES).filter((route) => !NOT_ASKED.has(route)))('%s', async (route) => {
    const asked = variants(route);
    const wrong: string[] = [];
    for (let at = 0; at < asked.length; at += 8)
      await Promise.all(
        asked.slice(at, at + 8).map(async ({ method, path, body, raw }) => {
          const text = raw ? new Uint8Array(raw) : body === undefined || method === 'GET' ? undefined : asJson(body);
          const type = raw ? 'application/octet-stream' : 'application/json';
          const response = await iris.fetch(path, {
            method,
            headers: text ? { 'content-type': type } : {},
            body: text,
          });
          const answer = await response.text();
          const isProblem =
            response.status < 400 ||
            // It has no words: there is no body (RFC 9110 §9.3.2).
            method === 'HEAD' ||
            /"code":"[a-z][\w.-]+"/i.test(answer) ||
            /text\/html/.test(response.headers.get('content-type') ?? '');
          // A directory that is another machine's and does not answer is neither our disk nor our database.
          const isAway = answer.includes('"code":"directory.fault"');
          if (response.status === 500 || (response.status === 503 && !isAway) || !isProblem)
            wrong.push(
              `${response.status} ${method} ${path.slice(0, 200)} ${typeof text === 'string' ? text.slice(0, 200) : ''} ${answer.slice(0, 200)}`,
            );
        }),
      );
    expect(wrong).toEqual([]);
  });

  it('cursors of a list: of another sort, another arity, another kind', async () => {
    const id = things.folder;
    const cursor = (value: unknown) => Buffer.from(JSON.stringify(value)).toString('base64url');
    const some = randomUUID();
    for (const sort of ['name', 'size', 'changed', 'type'])
      for (const keys of [
        ['a'],
        [1],
        ['a', 'b'],
        [1e308],
        ['\0'],
        ['2026-11-24T10:00:00Z'],
        ['-271821-04-20T00:00:00Z'],
        ['2026-02-30T10:00:00.5Z'],
        ['9999-99-99T99:99:99.0Z'],
        ['9'.repeat(40)],
        [null],
        [[]],
        [-1],
        ['Infinity'],
        [0.5],
        [],
      ])
        for (const group of [0, 1]) {
          const { status, body } = await iris.ask(
            'GET',
            `/api/folders/${id}?sort=${sort}&after=${cursor([group, keys, some])}`,
          );
          expect([200, 400], `${sort} ${JSON.stringify(keys)} ${JSON.stringify(body)}`).toContain(status);
        }
  });

  it('what is no JSON, too long, in another coding, or of another kind', async () => {
    const post = (body: BodyInit, headers: Record<string, string>) =>
      iris
        .fetch('/api/find', { method: 'POST', body, headers })
        .then(() => iris.fetch('/api/pins', { method: 'POST', body, headers }));
    for (const [body, headers] of [
      ['{', { 'content-type': 'application/json' }],
      ['{"a":1}', { 'content-type': 'application/json; charset=utf-7' }],
      ['{"a":1}', { 'content-type': 'application/json', 'content-encoding': 'gzip' }],
      ['{"a":1}', { 'content-type': 'text/plain' }],
      ['a=1', { 'content-type': 'application/x-www-form-urlencoded' }],
      [`{"nodeIds":["${'x'.repeat(300_000)}"]}`, { 'content-type': 'application/json' }],
      ['{"__proto__":{"on":true},"nodeIds":[]}', { 'content-type': 'application/json' }],
      ['\ufeff{"nodeIds":[],"on":true}', { 'content-type': 'application/json' }],
    ] as [string, Record<string, string>][]) {
      const response = await post(body, headers);
      expect(response.status, `${body.slice(0, 60)} ${JSON.stringify(headers)}`).toBeLessThan(500);
      expect(response.status).toBeGreaterThanOrEqual(400);
    }
  });

  it('the resumable protocol, with what nobody sends', async () => {
    const b64 = (text: string) => Buffer.from(text).toString('base64');
    const folder = things.folder;
    for (const headers of [
      { 'Upload-Length': '-1' },
      { 'Upload-Length': '9e99', 'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a')}` },
      { 'Upload-Length': '99999999999999999999', 'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a')}` },
      { 'Upload-Length': '5', 'Upload-Metadata': `folderId ${b64('{x}')},name ${b64('a')}` },
      { 'Upload-Length': '5', 'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a\0b')}` },
      {
        'Upload-Length': '5',
        'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a')},modifiedAt ${b64('1e400')}`,
      },
      {
        'Upload-Length': '5',
        'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a')},modifiedAt ${b64('8.64e15')}`,
      },
      { 'Upload-Length': '5', 'Upload-Metadata': ',,,' },
      { 'Upload-Defer-Length': '1', 'Upload-Metadata': `folderId ${b64(folder)},name ${b64('a')}` },
      { 'Upload-Concat': 'partial', 'Upload-Length': '5' },
    ] as Record<string, string>[]) {
      const response = await iris.fetch('/api/uploads', {
        method: 'POST',
        headers: { 'Tus-Resumable': '1.0.0', ...headers },
      });
      expect([500, 503], JSON.stringify(headers)).not.toContain(response.status);
    }
    for (const path of [
      '/api/uploads/x',
      '/api/uploads/%00',
      '/api/uploads/%zz',
      `/api/uploads/${randomUUID()}`,
      '/api/uploads/',
      '/api/uploads/..%2f..',
      '/API/uploads',
    ])
      for (const method of ['PATCH', 'HEAD', 'DELETE', 'POST', 'OPTIONS', 'PUT']) {
        const headers = {
          'Tus-Resumable': '1.0.0',
          'Upload-Offset': '0',
          'Content-Type': 'application/offset+octet-stream',
        };
        const body = method === 'PATCH' || method === 'PUT' ? 'x' : undefined;
        expect((await iris.fetch(path, { method, headers, body })).status, `${method} ${path}`).toBeLessThan(500);
      }
  });
});
