import { REFUSAL_WORDS, type RefusalReason } from '../share/refusal.js';
import { countOf } from '../text/size.js';
import type { LedgerBody } from './ledger.js';

/** What was put on a share that is out, and taken off it; each is names, or empty. */
function itemsWords({ title, added, frozen, takenOff }: Record<string, string>): string {
  const parts = [
    added && `put ${added} on ${title}`,
    frozen && `put ${frozen} on ${title}, frozen`,
    takenOff && `took ${takenOff} off ${title}`,
  ];
  return parts.filter(Boolean).join('; ') || `changed what is in ${title}`;
}

/** Whom no share lets in any more, and whom shares may let in again. */
function officeBlockWords({ added, takenOff }: Record<string, string>): string {
  const parts = [added && `has no share let ${added} in`, takenOff && `lets shares let ${takenOff} in again`];
  return parts.filter(Boolean).join('; ') || 'changed whom no share lets in';
}

const WORDS: Record<string, (d: Record<string, string>) => string> = {
  'office.begun': (d) => `began ${d['name']}`,
  'office.mail': (d) => `named ${d['host']} to hand mail to, from ${d['sender']}`,
  'office.changed': (d) => `changed the office: ${d['what']}`,
  'office.logo': () => 'put a logo on the pages of visitors',
  'office.logo-none': () => 'took the logo off the pages of visitors',
  'office.security': (d) => `changed what is asked of those who sign in: ${d['what']}`,
  'office.texts': (d) => `named ${d['host']} to send text messages`,
  'office.texts-none': () => 'took the gateway for text messages away',
  'office.mail-none': () => 'took the mail server away',
  'store.renamed': (d) => `renamed the store ${d['from']} to ${d['to']}`,
  'store.ordered': (d) => `put the stores in this order: ${d['order']}`,
  'store.archived': (d) => `archived the store ${d['name']}`,
  'store.brought-back': (d) => `brought the store ${d['name']} back from the archive`,
  'store.made': (d) => `made the store ${d['name']}`,
  'person.added': (d) => `gave ${d['name']} an account (${d['role']})`,
  'person.made-admin': (d) => `made ${d['name']} an admin`,
  'person.password-link': (d) => `gave out a link by which ${d['name']} sets a password`,
  'person.password-given': (d) => `made a password for ${d['name']}, who chooses another with it`,
  'person.password-set': () => 'set a password by a link, and was signed out everywhere',
  'person.sessions-ended': (d) => `ended sessions of ${d['name']} (${d['count']})`,
  'person.factor-on': () => 'set up a second factor',
  'person.factor-off': () => 'switched their second factor off',
  'person.factor-codes': () => 'made new recovery codes',
  'person.factor-lost': (d) => `switched off the second factor of ${d['name']}`,
  'person.recovery-used': () => 'used a recovery code',
  'person.wrong-codes': () => 'typed ten wrong codes within an hour, with the right password',
  'person.passkey-added': (d) => `added the passkey ${d['name']}`,
  'person.passkey-removed': (d) => `removed the passkey ${d['name']}`,
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
  'person.changed': (d) => `changed the account of ${d['name']} (${d['what']})`,
  'person.role': (d) => `made ${d['name']} ${d['role']}, who may ${d['duties'] || 'do nothing beside files'}`,
  'duty-set.made': (d) => `made the set of duties ${d['set']}: ${d['duties'] || 'none'}`,
  'duty-set.changed': (d) =>
    `changed the set of duties ${d['set']}, which ${d['count']} people have: ${d['duties'] || 'none'}`,
  'duty-set.renamed': (d) => `renamed the set of duties ${d['was']} to ${d['set']}`,
  'duty-set.removed': (d) => `removed the set of duties ${d['set']}; who had it keeps its duties`,
  'person.disabled': (d) => `disabled the account of ${d['name']}`,
  'person.enabled': (d) => `enabled the account of ${d['name']} again`,
  'person.ended': (d) => `ended the account of ${d['name']}: ${d['why']}`,
  'person.left': (d) => `saw ${d['name']} off: ${d['what']}`,
  'person.returned': (d) => `brought ${d['name']} back`,
  'person.home-gone': (d) => `removed the home of ${d['name']}, whose time was over`,
  'guest.invited': (d) => `invited ${d['name']} as a guest`,
  'guest.joined': (d) => `let ${d['name']}, who has an account as a guest already, in`,
  'directory.kept': (d) => `connected the directory at ${d['servers']}, and follows ${d['branches']}`,
  'directory.forgotten': (d) => `ended that the directory is asked; ${d['count']} accounts and groups stay`,
  'directory.detached': (d) => `gave ${d['name']} a password here again, apart from the directory`,
  'directory.taken': (d) => `signs ${d['name']} in from now on`,
  'directory.done': (d) => `was followed: ${d['what']}`,
  'person.seen-as': (d) => `looked at ${d['what']} as ${d['name']} gets it`,
  'provider.kept': (d) => `connected the identity provider ${d['issuer']}`,
  'provider.forgotten': () => 'ended that people sign in by the identity provider',
  'provider.known': (d) => `knows ${d['email']} from now on`,
  'group.made': (d) => `made the group ${d['group']}`,
  'group.renamed': (d) => `renamed the group ${d['was']} to ${d['group']}`,
  'group.ended': (d) => `ended the group ${d['group']}`,
  'group.managers': (d) => `chose who manages the group ${d['group']}: ${d['managers']}`,
  'group.joined': (d) => `put ${d['member']} into the group ${d['group']}`,
  'group.left': (d) => `took ${d['member']} out of the group ${d['group']}`,
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
  'reach.lookout': (d) => `exchanged a code with ${d['name']}: each looks at the other from outside`,
  'reach.lookout-gone': (d) => `ended that ${d['name']} and this office look at each other`,
  'reach.network': (d) => `said of the network: ${d['what']} ${d['value']}`,
  'reach.binding': (d) => `stored that ${d['authority']} knows the office as ${d['id']}`,
  'reach.key': (d) => `stored the key of the ${d['network']} name server`,
  'reach.lost': (d) => `can no longer be reached at ${d['address']}: ${d['reason']}`,
  'reach.found': (d) => `can be reached again at ${d['address']}`,
  'intake.opened': (d) => `asks for files: ${d['title']}`,
  'intake.changed': (d) => `changed the intake ${d['title']}: ${d['what']}`,
  'intake.withdrawn': (d) => `withdrew the intake ${d['title']}`,
  'intake.reinstated': (d) => `opened the intake ${d['title']} again`,
  'deposit.handed-in': (d) => `handed in ${countOf(Number(d['files']), 'file')} at ${d['title']} (${d['number']})`,
  'deposit.accepted': (d) => `accepted ${countOf(Number(d['files']), 'file')} of ${d['number']}, ${d['title']}`,
  'intake.reminded': (d) => `reminded ${countOf(Number(d['people']), 'person', 'people')} of ${d['title']}`,
  'deposit.asked': (d) => `asked about ${d['number']}, ${d['title']}: ${d['words']}`,
  'deposit.refused': (d) => `refused ${countOf(Number(d['files']), 'file')} of ${d['number']}, ${d['title']}`,
  'share.published': (d) => `published ${d['title']}`,
  'share.changed': (d) => `changed ${d['title']}: ${d['what']}`,
  'share.items': itemsWords,
  'office.blocked': officeBlockWords,
  'message.kept': (d) => `kept the message ${d['name']} for all of the office`,
  'message.removed': (d) => `removed the message ${d['name']} of the office`,
  'office.mail-returns': (d) => `has mail that comes back read from ${d['host']}`,
  'office.mail-returns-none': () => 'has mail that comes back read no more',
  'template.kept': (d) => `kept the template ${d['name']} for all of the office`,
  'template.removed': (d) => `removed the template ${d['name']} of the office`,
  'share.cleared': (d) => `moved ${d['name']} to the trash: ${d['title']} has closed`,
  'share.not-cleared': (d) =>
    `left ${d['name']} where it is: whoever published ${d['title']} may not remove it any more`,
  'share.refused': (d) =>
    `was refused ${countOf(Number(d['count']), 'time')} at ${d['title']} (${REFUSAL_WORDS[d['reason'] as RefusalReason]})`,
  'share.extended': (d) => `extended ${d['title']} to ${d['to']}`,
  'share.passed-on': (d) => `handed ${d['title']} over to ${d['to']}`,
  'share.handed-over': (d) => `handed the ${d['what']} of ${d['title']} over to ${d['to']} ${d['how']}`,
  'share.handed-over-same-way': (d) =>
    `handed the ${d['what']} of ${d['title']} over to ${d['to']} ${d['how']}, by the same way as the other`,
  'share.hand-over-returned': (d) => `found that ${d['to']} did not get ${d['title']}`,
  'share.told-withdrawn': (d) => `told ${d['to']} that ${d['title']} is withdrawn`,
  'share.withdrawn': (d) => `withdrew ${d['title']}`,
  'share.tidied': (d) => `took ${d['title']}, which was over, off the list of shares`,
  'share.reinstated': (d) => `opened ${d['title']} again`,
  'share.opens': (d) => `opened ${d['title']} at its time`,
  'share.closes': (d) => `closed ${d['title']} at its time`,
  'share.visited': (d) => `opened ${d['title']}${asWhom(d)}`,
  'share.last-visit': (d) => `used the last visit of ${d['title']}${asWhom(d)}`,
  'share.visited-often': (d) =>
    `opened ${d['title']}, as others did ${d['count']} times in an hour: further visits are counted, not listed`,
  'share.wrong-password-often': (d) =>
    `typed a wrong password for ${d['title']}, the ${d['count']}th in an hour: further ones are not listed`,
  'share.wrong-password': (d) => `typed a wrong password for ${d['title']}`,
  'share.barred': (d) => `closed ${d['title']}: ${d['by']}`,
  'share.unbarred': (d) => `opened ${d['title']} again, which keeps to the rules`,
  'guardrails.changed': (d) => `changed what shares of ${d['of']} keep to, from: ${d['from']} To: ${d['to']}`,
  'share.brought': (d) => `brought ${d['name']} into ${d['title']}`,
  'share.replaced': (d) => `replaced ${d['name']} (version ${d['version']}), brought into ${d['title']}`,
  'share.taken-back': (d) => `took ${d['name']} back, which they had brought into ${d['title']}`,
  'share.downloaded': (d) => `downloaded ${d['name']} from ${d['title']}`,
};

const asWhom = (d: Record<string, string>): string => (d['who'] && d['who'] !== 'null' ? ` as ${d['who']}` : '');

const untilWords = (d: Record<string, string>): string =>
  d['until'] && d['until'] !== 'null' ? `, until ${d['until']}` : '';

/** What an entry says after the actor's name: "published Mill Lane drawings". Unknown kinds are shown as they are. */
export function ledgerWords(body: Pick<LedgerBody, 'kind' | 'detail'>): string {
  const texts = Object.fromEntries(Object.entries(body.detail).map(([key, value]) => [key, String(value)]));
  return WORDS[body.kind]?.(texts) ?? body.kind;
}
