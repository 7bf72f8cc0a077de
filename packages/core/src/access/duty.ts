/** What an account may do beside files. */
export const DUTIES = [
  'publish-outside',
  'ask-outside',
  'invite-guests',
  'use-drive',
  'see-ledger',
  'run-people',
  'run-reach',
  'run-server',
] as const;
export type Duty = (typeof DUTIES)[number];

/** Kinds of accounts. Staff are all but guests; the admin is staff, and the admin of every common store. */
export type Role = 'admin' | 'staff' | 'guest';

/** What a kind of account begins with; an account may have a set of its own. */
export const READY_DUTIES: Record<Role, readonly Duty[]> = {
  admin: DUTIES,
  staff: ['publish-outside', 'ask-outside', 'invite-guests', 'use-drive'],
  guest: [],
};

export const DUTY_WORDS: Record<Duty, string> = {
  'publish-outside': 'publish shares for people outside',
  'ask-outside': 'ask people outside for files',
  'invite-guests': 'invite guests',
  'use-drive': 'use a drive or a synchronised folder',
  'see-ledger': 'see the whole ledger',
  'run-people': 'look after people and groups',
  'run-reach': 'look after how the server is reached',
  'run-server': 'run the server',
};

/** An account as far as it matters to who could run the server. */
export interface AccountDuties {
  personId: string;
  usable: boolean;
  duties: readonly Duty[];
}

/**
 * Whether somebody is left who runs the server when one account becomes another; without anybody nothing could be
 * mended.
 */
export function leavesNobodyToRun(accounts: readonly AccountDuties[], changed: AccountDuties): boolean {
  const after = [...accounts.filter((a) => a.personId !== changed.personId), changed];
  const runs = ({ usable, duties }: AccountDuties) => usable && duties.includes('run-server');
  return accounts.some(runs) && !after.some(runs);
}
