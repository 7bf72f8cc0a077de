/** Why somebody was refused at a share, as whoever looks after it is told. */
export const REFUSAL_REASONS = ['password', 'code', 'tries', 'member', 'state'] as const;
export type RefusalReason = (typeof REFUSAL_REASONS)[number];

export const REFUSAL_WORDS: Record<RefusalReason, string> = {
  password: 'wrong password',
  code: 'wrong code',
  tries: 'too many tries',
  member: 'signed in, but not meant',
  state: 'not open then',
};

const REASONS: Record<string, RefusalReason> = {
  'share.wrong-password': 'password',
  'share.wrong-code': 'code',
  'tries.too-many': 'tries',
  'share.not-meant': 'member',
  'share.not-yet': 'state',
  'share.closed': 'state',
  'share.barred': 'state',
  'share.used-up': 'state',
  'share.withdrawn': 'state',
  'share.broken': 'state',
};

/** @param code of the Problem that they were told. @returns null: it is a step on the way in, or no refusal of the share */
export const refusalReason = (code: string): RefusalReason | null => REASONS[code] ?? null;
