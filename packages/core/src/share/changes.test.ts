import { describe, expect, it } from 'vitest';
import { shareChanges, type GivenAnew, type ShareChoices } from './changes.js';
import { MAY_DOWNLOAD } from './may.js';

const ZONE = 'Europe/London';
const now = Date.parse('2026-12-01T09:00:00Z');
const BEFORE: ShareChoices = {
  ...{ title: 'Tender pack 3', message: '', hasPassword: true, visitLimit: 5, removesFiles: false },
  window: { opensAt: null, closesAt: Date.parse('2026-12-08T17:00:00Z') },
  ...{ address: 'https://files.saltmarsh.example', audience: 'anyone', may: MAY_DOWNLOAD },
};
const NOTHING: GivenAnew = { password: false, audience: false };
const changes = (part: Partial<ShareChoices>, anew: Partial<GivenAnew> = {}) =>
  shareChanges(BEFORE, { ...BEFORE, ...part }, { ...NOTHING, ...anew }, { now, zone: ZONE });

describe('what was changed about a share', () => {
  it('is told with what it was before', () => {
    expect(changes({ title: 'Tender pack 4', visitLimit: null })).toEqual([
      'title “Tender pack 4” instead of “Tender pack 3”',
      'any number of visits instead of at most 5 visits',
    ]);
    expect(changes({ window: { opensAt: Date.parse('2026-12-02T08:00:00Z'), closesAt: null } })).toEqual([
      'opens Wed 2 Dec, 08:00 instead of at once',
      'closes when somebody closes it instead of Tue 8 Dec, 17:00',
    ]);
    expect(changes({ audience: 'listed', address: 'http://quay.local' }, { audience: true })).toEqual([
      'for those listed instead of anyone with the link',
      'link on http://quay.local instead of https://files.saltmarsh.example',
    ]);
    expect(changes({ may: { ...MAY_DOWNLOAD, fileLimit: 2 } })).toEqual([
      'may download, each file in at most 2 visits instead of download',
    ]);
    expect(changes({ may: { ...MAY_DOWNLOAD, takesBytes: 1e9 } })).toEqual(['how much it takes in']);
  });
  it('is told of what has no value that could be told', () => {
    expect(changes({ message: 'As agreed.' })).toEqual(['message added']);
    expect(changes({ hasPassword: false })).toEqual(['password taken off']);
    expect(changes({}, { password: true, audience: true })).toEqual(['who it is for', 'new password']);
    expect(changes({ removesFiles: true })).toEqual(['its files go when it closes']);
  });
  it('is nothing where nothing is different', () => expect(changes({})).toEqual([]));
});
