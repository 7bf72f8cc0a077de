import { describe, expect, it } from 'vitest';
import {
  changeShareSchema,
  createFolderSchema,
  createShareSchema,
  nodeIdsSchema,
  openShareSchema,
  signInSchema,
  uploadQuerySchema,
} from './index.js';

const id = '019fa1a2-33c0-7206-acb0-4462bca1c3c1';
const share = {
  title: 'Plans',
  nodeIds: [id],
  window: { opensAt: null, closesAt: null },
  password: null,
  visitLimit: null,
};
const typeOf = (result: { error?: { details: { type: string }[] } }) => result.error?.details[0]?.type;

describe('what is asked is normalised', () => {
  it('names to composed form, text trimmed, ids and sign-in names to lower case', () => {
    expect(createFolderSchema.validate({ name: 'Zu\u0308rich' }).value).toEqual({ name: 'Zürich', ifExists: 'refuse' });
    expect((createShareSchema.validate({ ...share, title: '  Plans ' }).value as { title: string }).title).toBe(
      'Plans',
    );
    expect((nodeIdsSchema.validate({ nodeIds: [id.toUpperCase()] }).value as { nodeIds: string[] }).nodeIds).toEqual([
      id,
    ]);
    expect(signInSchema.validate({ signInName: ' Iris ', password: ' kept as it is ' }).value as object).toEqual({
      signInName: 'iris',
      password: ' kept as it is ',
    });
  });
  it('what may be left out has its default', () => {
    expect(createShareSchema.validate(share).value).toMatchObject({ message: '', weakPasswordMeant: false });
    expect(openShareSchema.validate({}).value).toEqual({ password: null });
    expect(uploadQuerySchema.validate({ name: 'a.txt' }).value).toEqual({ name: 'a.txt', conflict: 'refuse' });
  });
});

describe('what is refused', () => {
  it("names by the core's own codes", () => {
    expect(typeOf(createFolderSchema.validate({ name: 'NUL' }))).toBe('name.reserved');
    expect(typeOf(createFolderSchema.validate({ name: 'a/b' }))).toBe('name.separator');
  });
  it.each([
    [{ ...share, window: { opensAt: 'tomorrow', closesAt: null } }, 'string.isoDate'],
    [{ ...share, window: { opensAt: '2026-12-01T17:00', closesAt: null } }, 'time.no-zone'],
    [{ ...share, window: { opensAt: '2026-12-01', closesAt: null } }, 'time.no-zone'],
    [{ ...share, window: { opensAt: '2026-02-30T10:00:00Z', closesAt: null } }, 'string.isoDate'],
    [{ ...share, window: { opensAt: '-271821-04-20T00:00:00.000Z', closesAt: null } }, 'string.isoDate'],
    [{ ...share, nodeIds: [`{${id}}`] }, 'string.guid'],
    [{ ...share, nodeIds: [id.replaceAll('-', '')] }, 'string.guid'],
    [{ ...share, visitLimit: '1,000' }, 'number.base'],
    [{ ...share, window: { opensAt: null } }, 'any.required'],
    [{ ...share, visitLimit: 100_001 }, 'number.max'],
    [{ ...share, title: 'a\u0000b' }, 'string.pattern.base'],
    [{ ...share, password: '12345' }, 'string.min'],
    [{ ...share, nodeIds: ['../..'] }, 'string.guid'],
    [{ ...share, admin: true }, 'object.unknown'],
  ])('%j is refused (%s)', (asked, type) => expect(typeOf(createShareSchema.validate(asked))).toBe(type));
  it('a change of nothing', () => expect(typeOf(changeShareSchema.validate({}))).toBe('object.min'));
});
