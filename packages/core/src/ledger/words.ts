import type { LedgerBody } from './ledger.js';

const WORDS: Record<string, (d: Record<string, string>) => string> = {
  'office.begun': (d) => `began ${d['name']}`,
  'office.mail': (d) => `named ${d['host']} to hand mail to, from ${d['sender']}`,
  'office.changed': (d) => `changed the office: ${d['what']}`,
  'office.logo': () => 'put a logo on the pages of visitors',
  'office.logo-none': () => 'took the logo off the pages of visitors',
  'office.security': (d) => `changed what is asked of those who sign in: ${d['what']}`,
  'office.mail-none': () => 'took the mail server away',
  'store.renamed': (d) => `renamed the store ${d['from']} to ${d['to']}`,
  'store.ordered': (d) => `put the stores in this order: ${d['order']}`,
  'store.archived': (d) => `archived the store ${d['name']}`,
  'store.brought-back': (d) => `brought the store ${d['name']} back from the archive`,
  'store.made': (d) => `made the store ${d['name']}`,
  'person.added': (d) => `gave ${d['name']} an account (${d['role']})`,
  'person.made-admin': (d) => `made ${d['name']} an admin`,
  'person.password-link': (d) => `gave out a link by which ${d['name']} sets a password`,
  'person.password-set': () => 'set a password by a link, and was signed out everywhere',
  'person.sessions-ended': (d) => `ended sessions of ${d['name']} (${d['count']})`,
  'person.factor-on': () => 'set up a second factor',
  'person.factor-off': () => 'switched their second factor off',
  'person.factor-codes': () => 'made new recovery codes',
  'person.factor-lost': (d) => `switched off the second factor of ${d['name']}`,
  'person.recovery-used': () => 'used a recovery code',
  'person.wrong-codes': () => 'typed ten wrong codes within an hour, with the right password',
  'person.signed-in': () => 'signed in',
  'person.password-changed': () => 'changed their password',
  'folder.created': (d) => `made the folder ${d['name']}`,
  'file.uploaded': (d) => `added ${d['name']}`,
  'file.versioned': (d) => `replaced ${d['name']} (version ${d['version']})`,
  'node.renamed': (d) => `renamed ${d['from']} to ${d['to']}`,
  'node.trashed': (d) => `moved ${d['name']} to the trash`,
  'node.put-back': (d) => `put ${d['name']} back`,
  'node.moved': (d) => `moved ${d['name']} from ${d['from']} to ${d['to']}`,
  'node.copied': (d) => `copied ${d['name']} to ${d['to']}`,
  'node.purged': (d) => `removed ${d['name']} for good`,
  'files.uploaded': (d) => `added ${d['count']} files to ${d['folder']}`,
  'version.restored': (d) => `brought back version ${d['version']} of ${d['name']}`,
  'version.kept': (d) =>
    d['kept'] === 'true'
      ? `keeps version ${d['version']} of ${d['name']} for ever`
      : `no longer keeps version ${d['version']} of ${d['name']} for ever`,
  'versions.removed': (d) => `removed ${d['count']} old versions in ${d['store']}`,
  'folder.restored': (d) => `brought ${d['name']} back as it was on ${d['at']}`,
  'store.policy': (d) => `changed the rules of ${d['store']}: ${d['what']}`,
  'store.imported': (d) => `adopted ${d['files']} files from the server's disk into ${d['folder']}`,
  'store.exported': (d) => `exported ${d['store']} with ${d['files']} files`,
  'access.granted': (d) => `granted ${d['to']} on ${d['folder']}: ${d['level']}${untilWords(d)}`,
  'access.regranted': (d) =>
    `changed what ${d['to']} has on ${d['folder']}: ${d['level']}${untilWords(d)}, not ${d['was']}`,
  'access.ended': (d) => `ended what ${d['to']} had on ${d['folder']} (${d['level']})`,
  'access.closed': (d) => `closed ${d['folder']} to what is granted above it`,
  'access.opened': (d) => `let ${d['folder']} take over what is granted above it again`,
  'access.rule': (d) => `changed what those who add files to ${d['folder']} see of others: ${d['rule']}`,
  'home.handed-over': (d) => `handed the home of ${d['from']} over to ${d['to']}`,
  'person.quota': (d) => `changed the quota of ${d['name']}`,
  'blob.damaged': (d) => `found ${d['count']} damaged`,
  'blob.restored': (d) => `restored ${d['count']} damaged from the second copy`,
  'backup.place-added': (d) => `has backups made to ${d['folder']} ${d['when']}, and keeps ${d['kept']}`,
  'backup.place-changed': (d) =>
    `changed the backups to ${d['folder']}: ${d['what'] || 'no more than how they are rehearsed'}`,
  'backup.place-removed': (d) => `ended the backups to ${d['folder']}`,
  'backup.made': (d) => `backed up ${d['files']} files to ${d['folder']} (${d['copied']} new)`,
  'backup.failed': (d) => `could not make a backup to ${d['folder']}: ${d['reason']}`,
  'backup.rehearsed': (d) => `brought a backup in ${d['folder']} back for trial, and all was well`,
  'backup.rehearsal-failed': (d) => `could not bring a backup in ${d['folder']} back for trial: ${d['reason']}`,
  'backup.part-brought': (d) =>
    `brought ${d['path']} back from the backup of ${d['at']} as ${d['as']} (${d['files']} files)`,
  'address.added': (d) => `added the address ${d['address']}`,
  'address.changed': (d) => `changed the address ${d['address']}: ${d['what']}`,
  'address.removed': (d) => `removed the address ${d['address']}`,
  'address.links-moved': (d) => `moved ${d['count']} links from ${d['from']} to ${d['to']}`,
  'reach.record': (d) => `set ${d['name']} to ${d['value']} on the ${d['network']} name server`,
  'reach.mapping': (d) => `opened port ${d['port']} on the router for ${d['address']}`,
  'reach.certificate': (d) => `got a certificate for ${d['host']} until ${d['until']}`,
  'reach.name-update': (d) => `stored that ${d['name']} is changed at ${d['host']}`,
  'reach.name-update-gone': () => 'forgot where the name is changed',
  'reach.relay': (d) => `accepted the invitation of the relay ${d['host']}, as ${d['office']}`,
  'reach.relay-left': () => 'left the relay',
  'reach.binding': (d) => `stored that ${d['authority']} knows the office as ${d['id']}`,
  'reach.key': (d) => `stored the key of the ${d['network']} name server`,
  'reach.lost': (d) => `can no longer be reached at ${d['address']}: ${d['reason']}`,
  'reach.found': (d) => `can be reached again at ${d['address']}`,
  'share.published': (d) => `published ${d['title']}`,
  'share.changed': (d) => `changed ${d['title']}: ${d['what']}`,
  'share.extended': (d) => `extended ${d['title']} to ${d['to']}`,
  'share.withdrawn': (d) => `withdrew ${d['title']}`,
  'share.reinstated': (d) => `opened ${d['title']} again`,
  'share.opens': (d) => `opened ${d['title']} at its time`,
  'share.closes': (d) => `closed ${d['title']} at its time`,
  'share.visited': (d) => `opened ${d['title']}`,
  'share.last-visit': (d) => `used the last visit of ${d['title']}`,
  'share.visited-often': (d) =>
    `opened ${d['title']}, as others did ${d['count']} times in an hour: further visits are counted, not listed`,
  'share.wrong-password-often': (d) =>
    `typed a wrong password for ${d['title']}, the ${d['count']}th in an hour: further ones are not listed`,
  'share.wrong-password': (d) => `typed a wrong password for ${d['title']}`,
  'share.downloaded': (d) => `downloaded ${d['name']} from ${d['title']}`,
};

const untilWords = (d: Record<string, string>): string =>
  d['until'] && d['until'] !== 'null' ? `, until ${d['until']}` : '';

/** What an entry says after the actor's name: "published Mill Lane drawings". Unknown kinds are shown as they are. */
export function ledgerWords(body: Pick<LedgerBody, 'kind' | 'detail'>): string {
  const texts = Object.fromEntries(Object.entries(body.detail).map(([key, value]) => [key, String(value)]));
  return WORDS[body.kind]?.(texts) ?? body.kind;
}
