import type { LedgerBody } from './ledger.js';

const WORDS: Record<string, (d: Record<string, string>) => string> = {
  'person.signed-in': () => 'signed in',
  'person.password-changed': () => 'changed their password',
  'folder.created': (d) => `made the folder ${d['name']}`,
  'file.uploaded': (d) => `added ${d['name']}`,
  'file.versioned': (d) => `replaced ${d['name']} (version ${d['version']})`,
  'node.renamed': (d) => `renamed ${d['from']} to ${d['to']}`,
  'node.trashed': (d) => `moved ${d['name']} to the trash`,
  'node.put-back': (d) => `put ${d['name']} back`,
  'share.published': (d) => `published ${d['title']}`,
  'share.changed': (d) => `changed ${d['title']}: ${d['what']}`,
  'share.extended': (d) => `extended ${d['title']} to ${d['to']}`,
  'share.withdrawn': (d) => `withdrew ${d['title']}`,
  'share.reinstated': (d) => `opened ${d['title']} again`,
  'share.visited': (d) => `opened ${d['title']}`,
  'share.last-visit': (d) => `used the last visit of ${d['title']}`,
  'share.wrong-password': (d) => `typed a wrong password for ${d['title']}`,
  'share.downloaded': (d) => `downloaded ${d['name']} from ${d['title']}`,
};

/** What an entry says after the actor's name: "published Mill Lane drawings". Unknown kinds are shown as they are. */
export function ledgerWords(body: Pick<LedgerBody, 'kind' | 'detail'>): string {
  const texts = Object.fromEntries(Object.entries(body.detail).map(([key, value]) => [key, String(value)]));
  return WORDS[body.kind]?.(texts) ?? body.kind;
}
