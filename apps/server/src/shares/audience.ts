import type { AudienceAsked } from '@quay/contract';
import { AUDIENCE_FAULT_WORDS, audienceFault, type Listed } from '@quay/core';
import { readList } from '@quay/core/recipients';
import type { EntityManager } from 'typeorm';
import { grantSubject } from '../access/grants.queries.js';
import { invalidField } from '../platform/problems/problem.js';
import type { Meant } from './audience.queries.js';

/** Whom somebody means, checked: what does not matter to the kind is left out. @throws Problem at the entry with a fault */
export function meantBy({ kind, listed, blocked, members }: AudienceAsked): Meant {
  const hasLists = kind === 'verified' || kind === 'listed';
  const meant: Meant = {
    kind,
    listed: kind === 'listed' ? entriesOf('audience.listed', listed) : [],
    blocked: hasLists ? entriesOf('audience.blocked', blocked) : [],
    members: kind === 'members' ? members : [],
  };
  const fault = audienceFault(kind, { listed: meant.listed.length, members: members.length });
  if (fault) throw invalidField(`audience.${kind}`, fault, AUDIENCE_FAULT_WORDS[fault]);
  return meant;
}

/** Entries of a list as they are typed. @throws Problem at the one that is not understood */
export function entriesOf(field: string, texts: readonly string[]): Listed[] {
  const found = texts.map((text, n) => {
    const { listed, faults } = readList(text);
    const [entry] = listed;
    if (entry && listed.length === 1 && faults.length === 0) return entry;
    const words = faults[0]?.words ?? 'is more than one entry';
    throw invalidField(`${field}.${n}`, 'audience.entry', `${text.slice(0, 80)} ${words}.`);
  });
  return [...new Map(found.map((entry) => [`${entry.kind} ${entry.value}`, entry])).values()];
}

/** Everybody who is meant has an account, every group is one still. @throws Problem audience.gone */
export async function requireMembers(tx: EntityManager, members: Meant['members'], at: Date): Promise<void> {
  for (const member of members)
    if (!(await grantSubject(tx, member, at)))
      throw invalidField('audience.members', 'audience.gone', 'Somebody of these has no account any more. Look again.');
}
