import { describe, expect, it } from 'vitest';
import {
  archiveQuerySchema,
  atSchema,
  batchQuerySchema,
  browseSchema,
  changeAddressSchema,
  changePasswordSchema,
  changePolicySchema,
  checkFilesSchema,
  createTagSchema,
  finishSchema,
  findQuerySchema,
  folderQuerySchema,
  ledgerQuerySchema,
  moveSchema,
  MOST_ITEMS,
  nameServerSchema,
  newAddressSchema,
  nodeIdsSchema,
  plannedLineSchema,
  policyEffectSchema,
  putBackSchema,
  quotaSchema,
  remedySchema,
  restorePastSchema,
  tagNodesSchema,
  uploadMetadataSchema,
  uploadQuerySchema,
} from './index.js';

interface Schema {
  validate: (asked: unknown) => { error?: { details: { type: string; path: (string | number)[] }[] }; value: unknown };
}
const id = '019fa1a2-33c0-7206-acb0-4462bca1c3c1';
const ids = (count: number) => Array.from({ length: count }, (_, n) => id.slice(0, -3) + String(n).padStart(3, '0'));

/** What is wrong and where: "toFolderId: any.required". */
const fault = (schema: Schema, asked: unknown) => {
  const found = schema.validate(asked).error?.details[0];
  return found && `${found.path.join('.')}: ${found.type}`;
};

describe('what is taken', () => {
  it.each<[string, Schema, unknown, unknown]>([
    ['a folder, by name', folderQuerySchema, {}, { litter: false, sort: 'name', descending: false }],
    [
      'a folder, by size',
      folderQuerySchema,
      { sort: 'size', descending: 'true' },
      { litter: false, sort: 'size', descending: true },
    ],
    [
      'a move',
      moveSchema,
      { nodeIds: [id], toFolderId: id },
      { nodeIds: [id], toFolderId: id, ifTaken: 'refuse', widens: false },
    ],
    ['as many items as one may name', nodeIdsSchema, { nodeIds: ids(MOST_ITEMS) }, { nodeIds: ids(MOST_ITEMS) }],
    ['no quota', quotaSchema, { quotaBytes: null }, { quotaBytes: null }],
    ['a quota of nothing', quotaSchema, { quotaBytes: 0 }, { quotaBytes: 0 }],
    ['types in small letters', changePolicySchema, { allowedTypes: ['PDF', 'dxf'] }, { allowedTypes: ['pdf', 'dxf'] }],
    ['a policy asked about', policyEffectSchema, { versionsKept: '3' }, { versionsKept: 3, thinAfterDays: null }],
    ['a search for nothing yet', findQuerySchema, { text: '' }, { text: '', inside: false }],
    ['words with space round them', findQuerySchema, { text: ' mill ' }, { text: 'mill', inside: false }],
    [
      'an upload from long ago',
      uploadQuerySchema,
      { name: 'a', modifiedAt: 0 },
      { name: 'a', conflict: 'refuse', modifiedAt: 0 },
    ],
    [
      'an address as short as it can be said',
      newAddressSchema,
      { wayIn: 'mapping', scheme: 'https', host: 'Files.Saltmarsh.example' },
      {
        wayIn: 'mapping',
        scheme: 'https',
        host: 'files.saltmarsh.example',
        port: null,
        pathPrefix: '',
        uses: 'visitors',
      },
    ],
    [
      'a prefix with dots in it',
      newAddressSchema,
      { wayIn: 'mapping', scheme: 'https', host: 'files.saltmarsh.example', pathPrefix: '/v1.2/files' },
      {
        wayIn: 'mapping',
        scheme: 'https',
        host: 'files.saltmarsh.example',
        port: null,
        pathPrefix: '/v1.2/files',
        uses: 'visitors',
      },
    ],
    ['a moment with its zone', atSchema, { at: '2026-11-24T10:00:00+01:00' }, { at: '2026-11-24T10:00:00+01:00' }],
  ])('%s', (_, schema, asked, expected) => {
    const { error, value } = schema.validate(asked);
    expect([error?.details, value]).toEqual([undefined, expected]);
  });
});

describe('what is refused', () => {
  it.each<[string, Schema, unknown]>([
    ['nodeIds: array.min', nodeIdsSchema, { nodeIds: [] }],
    ['nodeIds: array.max', nodeIdsSchema, { nodeIds: ids(MOST_ITEMS + 1) }],
    ['nodeIds.1: array.unique', nodeIdsSchema, { nodeIds: [id, id] }],
    // The same id in other letters is the same id.
    ['nodeIds.1: array.unique', nodeIdsSchema, { nodeIds: [id, id.toUpperCase()] }],
    ['nodeIds.0: string.base', nodeIdsSchema, { nodeIds: [7] }],
    ['nodeIds.0: string.base', nodeIdsSchema, { nodeIds: [{ $ne: null }] }],
    ['nodeIds: any.required', nodeIdsSchema, {}],
    ['toFolderId: any.required', moveSchema, { nodeIds: [id] }],
    ['ifTaken: any.only', moveSchema, { nodeIds: [id], toFolderId: id, ifTaken: 'overwrite' }],
    ['toFolderId: string.guid', putBackSchema, { nodeIds: [id], toFolderId: `[${id}]` }],
    ['sort: any.only', folderQuerySchema, { sort: 'name; DROP TABLE node' }],
    ['after: string.max', folderQuerySchema, { after: 'x'.repeat(2001) }],
    ['litter: boolean.base', folderQuerySchema, { litter: 'perhaps' }],
    ['quotaBytes: number.min', quotaSchema, { quotaBytes: -1 }],
    ['quotaBytes: number.base', quotaSchema, { quotaBytes: Number.NaN }],
    ['quotaBytes: number.infinity', quotaSchema, { quotaBytes: Infinity }],
    ['quotaBytes: number.unsafe', quotaSchema, { quotaBytes: 2 ** 60 }],
    ['quotaBytes: number.integer', quotaSchema, { quotaBytes: 0.5 }],
    ['quotaBytes: any.required', quotaSchema, {}],
    [': object.min', changePolicySchema, {}],
    ['allowedTypes.0: string.pattern.base', changePolicySchema, { allowedTypes: ['.pdf'] }],
    ['allowedTypes.1: array.unique', changePolicySchema, { allowedTypes: ['pdf', 'PDF'] }],
    ['versionsKept: number.min', changePolicySchema, { versionsKept: 0 }],
    ['trashDays: number.max', changePolicySchema, { trashDays: 3651 }],
    ['minBytes: number.min', findQuerySchema, { minBytes: -5 }],
    ['kind: any.only', findQuerySchema, { kind: 'everything' }],
    ['text: string.max', findQuerySchema, { text: 'm'.repeat(201) }],
    ['text: string.pattern.base', findQuerySchema, { text: 'a\u0000b' }],
    ['from: time.no-zone', findQuerySchema, { from: '2026-11-24' }],
    ['at: any.required', atSchema, {}],
    ['at: string.isoDate', atSchema, { at: '2026-13-01T00:00:00Z' }],
    ['at: string.isoDate', atSchema, { at: '-271821-04-20T00:00:00Z' }],
    ['at: string.isoDate', atSchema, { at: '+275760-09-13T00:00:00Z' }],
    ['at: time.no-zone', restorePastSchema, { at: '2026-11-24T10:00:00', nodeIds: null }],
    ['name: any.required', createTagSchema, { colour: 'tide' }],
    ['colour: any.only', createTagSchema, { name: 'Plans', colour: 'red' }],
    ['name: string.max', createTagSchema, { name: 'P'.repeat(41), colour: 'tide' }],
    ['on: any.required', tagNodesSchema, { nodeIds: [id], tagId: id }],
    ['conflict: any.only', uploadQuerySchema, { name: 'a', conflict: 'overwrite' }],
    ['modifiedAt: number.max', uploadQuerySchema, { name: 'a', modifiedAt: 8.64e15 + 1 }],
    ['name: name.reserved', uploadQuerySchema, { name: 'CON .txt' }],
    ['name: string.max', uploadMetadataSchema, { folderId: id, name: 'n'.repeat(2001) }],
    ['folderId: any.required', uploadMetadataSchema, { name: 'a' }],
    ['files: any.required', checkFilesSchema, {}],
    ['files.0.sizeBytes: number.min', checkFilesSchema, { files: [{ name: 'a', sizeBytes: -1 }] }],
    ['files.0.path: object.unknown', checkFilesSchema, { files: [{ name: 'a', sizeBytes: 1, path: '..' }] }],
    ['batchId: string.guid', batchQuerySchema, { batchId: '../batch' }],
    ['conflict: any.required', finishSchema, {}],
    ['path: string.max', browseSchema, { path: '/'.repeat(4097) }],
    ['limit: number.max', ledgerQuerySchema, { limit: 100_000 }],
    ['before: number.base', ledgerQuerySchema, { before: 'now' }],
    ['host: any.required', newAddressSchema, { wayIn: 'mapping', scheme: 'https' }],
    ['wayIn: any.only', newAddressSchema, { wayIn: 'tunnel', scheme: 'https', host: 'a.example' }],
    ['scheme: any.only', newAddressSchema, { wayIn: 'mapping', scheme: 'file', host: 'a.example' }],
    ['port: number.max', newAddressSchema, { wayIn: 'mapping', scheme: 'https', host: 'a.example', port: 65_536 }],
    [': object.min', changeAddressSchema, {}],
    // A default is given up by making another the default.
    ['isDefault: any.only', changeAddressSchema, { isDefault: false }],
    ['act: any.only', remedySchema, { act: 'open-everything' }],
    [
      'uploadMbit: number.min',
      plannedLineSchema,
      { line: 'own', fixed: true, router: 'protocol', domain: true, uploadMbit: 0, relayMbit: 1 },
    ],
    [
      'address: host.malformed',
      nameServerSchema,
      { address: '192.168.40.0/24', zone: 'saltmarsh.example', keyName: 'k.example', secret: 'AAAA' },
    ],
    ['admin: object.unknown', changePasswordSchema, { current: 'a', next: 'gravel-heron-silent-oar', admin: true }],
  ])('%s', (expected, schema, asked) => expect(fault(schema, asked)).toBe(expected));

  it('an archive of nothing, of too much, and of what is no id', () => {
    expect(fault(archiveQuerySchema, {})).toBeDefined();
    expect(fault(archiveQuerySchema, { ids: [] })).toBeDefined();
    expect(fault(archiveQuerySchema, { ids: ['../../etc/passwd'] })).toBeDefined();
  });
});
