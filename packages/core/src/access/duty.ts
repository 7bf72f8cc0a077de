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

/** Whether these are the duties that a kind of account begins with. */
export const isReadySet = (role: Role, duties: readonly Duty[]): boolean =>
  DUTIES.every((duty) => duties.includes(duty) === READY_DUTIES[role].includes(duty));

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

const AND = new Intl.ListFormat('en-GB', { type: 'conjunction' });

/** Duties with a name, so that several people have the same and keep having the same. */
export interface DutySet {
  id: string;
  name: string;
  duties: readonly Duty[];
}

/** What somebody may do from a change of their duties on, and what no longer; in the order of DUTIES. */
export function dutyShift(before: readonly Duty[], after: readonly Duty[]): { gained: Duty[]; lost: Duty[] } {
  return {
    gained: DUTIES.filter((duty) => after.includes(duty) && !before.includes(duty)),
    lost: DUTIES.filter((duty) => before.includes(duty) && !after.includes(duty)),
  };
}

/**
 * A change of duties in a sentence; empty when nothing changes.
 * @param who whose they are, as the subject: "Noel Farrow", "3 people"
 */
export function dutyShiftWords(who: string, before: readonly Duty[], after: readonly Duty[]): string {
  const { gained, lost } = dutyShift(before, after);
  const words = (duties: readonly Duty[]) => AND.format(duties.map((duty) => DUTY_WORDS[duty]));
  if (gained.length > 0 && lost.length > 0) return `${who} may ${words(gained)}, and may no longer ${words(lost)}.`;
  if (gained.length > 0) return `${who} may ${words(gained)}.`;
  return lost.length > 0 ? `${who} may no longer ${words(lost)}.` : '';
}

/** An account as far as it matters to who could run the server. */
export interface AccountDuties {
  personId: string;
  usable: boolean;
  duties: readonly Duty[];
}

/** Whether nobody is left who runs the server once accounts have changed; without anybody nothing could be mended. */
export function leavesNobodyToRun(accounts: readonly AccountDuties[], ...changed: AccountDuties[]): boolean {
  const after = [...accounts.filter((a) => !changed.some((c) => c.personId === a.personId)), ...changed];
  const runs = ({ usable, duties }: AccountDuties) => usable && duties.includes('run-server');
  return accounts.some(runs) && !after.some(runs);
}
