import { momentInWords, type Instant } from '../text/when.js';
import { LEVEL_WORDS } from './access.js';
import {
  effectiveAccess,
  isArchived,
  type EffectiveAccess,
  type FolderFact,
  type Reason,
  type StoreFact,
} from './effective.js';
import { holdsAt, type Period } from './period.js';
import { isGuestAt, type Asker } from './subjects.js';

/** What an explanation calls things by, and in which zone it tells the time. */
export interface Names {
  folder: (id: string) => string;
  group: (id: string) => string;
  zone: string;
}

/**
 * Why somebody may do what they may in a folder, or why not, as sentences without a subject ("Can edit: granted on
 * Projects to Field crew."). What decides most comes first.
 */
export function explainAccess(
  chain: readonly FolderFact[],
  store: StoreFact,
  asker: Asker,
  at: Instant,
  names: Names,
): string[] {
  const access = effectiveAccess(chain, store, asker, at);
  if (access.because.length === 0) return [whyNothing(chain, store, asker, at, access, names)];
  const most = (r: Reason) => r.acts.length * 10 + r.own.length;
  const said = [...access.because].sort((a, b) => most(b) - most(a)).map((r) => sentence(r, chain, at, access, names));
  if (isArchived(store, at)) said.push('Nothing is added or changed: the store is archived.');
  return [...new Set(said)];
}

function sentence(
  { kind, folderId, grantId, through, level }: Reason,
  chain: readonly FolderFact[],
  at: Instant,
  { stoppedAt }: EffectiveAccess,
  names: Names,
): string {
  if (kind === 'owner') return 'Can manage: it is their home.';
  if (kind === 'admin')
    return stoppedAt === null
      ? 'Can manage: the admin does.'
      : `Can only say who reaches it, as the admin: ${names.folder(stoppedAt)} takes nothing over.`;
  const grant = chain.flatMap((f) => f.grants).find((g) => g.id === grantId);
  const to =
    grant?.subject.kind === 'staff' ? ' to all staff' : through.length > 0 ? ` to ${groupPath(through, names)}` : '';
  const end = grant?.until ? `, until ${momentInWords(grant.until, at, names.zone)}` : '';
  return `${capital(LEVEL_WORDS[level])}: granted on ${names.folder(folderId)}${to}${end}.`;
}

/** "Survey, through Field crew": the group that was granted something, and the groups on the way there. */
function groupPath(through: readonly string[], names: Names): string {
  const way = through.map(names.group);
  const granted = way.pop() as string;
  return way.length === 0 ? granted : `${granted}, through ${way.join(' and ')}`;
}

function whyNothing(
  chain: readonly FolderFact[],
  store: StoreFact,
  asker: Asker,
  at: Instant,
  { stoppedAt }: EffectiveAccess,
  names: Names,
): string {
  const moment = (of: Instant) => momentInWords(of, at, names.zone);
  if (!asker.account.some((s) => holdsAt(s, at))) return 'Nothing: the account cannot be used.';
  if (store.kind === 'home') return "Nothing: it is somebody's home.";
  const stop = chain.findIndex((f) => f.id === stoppedAt);
  if (stoppedAt !== null && givesAnything(chain, store, asker, at, stop))
    return `Nothing: ${names.folder(stoppedAt)} takes nothing over from ${names.folder(chain[stop + 1]?.id as string)}.`;
  const counted = stop === -1 ? chain : chain.slice(0, stop + 1);
  const theirs = counted.flatMap((f) =>
    f.grants.filter((g) => isTheirs(g.subject, asker, at)).map((g) => ({ ...g, on: f.id })),
  );
  const coming = theirs.filter((g) => g.since > at).sort((a, b) => a.since - b.since)[0];
  if (coming) return `Nothing yet: what was granted on ${names.folder(coming.on)} begins on ${moment(coming.since)}.`;
  const over = theirs.filter(isOver(at)).sort((a, b) => (b.until as number) - (a.until as number))[0];
  if (over)
    return `Nothing any more: what was granted on ${names.folder(over.on)} ended on ${moment(over.until as number)}.`;
  return 'Nothing: nobody granted them anything here.';
}

/** Whether there would be access but for the stop. */
function givesAnything(
  chain: readonly FolderFact[],
  store: StoreFact,
  asker: Asker,
  at: Instant,
  stop: number,
): boolean {
  return effectiveAccess(chain.slice(stop + 1), store, asker, at).because.length > 0;
}

const isTheirs = (subject: FolderFact['grants'][number]['subject'], asker: Asker, at: Instant): boolean =>
  subject.kind === 'staff'
    ? !isGuestAt(asker, at)
    : subject.kind === 'person'
      ? subject.id === asker.personId
      : asker.groups.some((g) => g.groupId === subject.id);

const isOver =
  (at: Instant) =>
  ({ until }: Period): boolean =>
    until !== null && until <= at;

const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
