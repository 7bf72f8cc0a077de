/** What an office has by now, for the list of what is left to do. */
export interface Furnished {
  mail: boolean;
  /** An address was found open from outside. */
  reached: boolean;
  /** Whoever set it up said that outsiders are not to get in for now. */
  insideOnly: boolean;
  files: boolean;
  shares: boolean;
  /** Backups go somewhere. */
  backups: boolean;
  /** Whoever asks has a second factor, or was offered one and declined. */
  factor: boolean;
}

export type LeftKind = 'files' | 'reach' | 'mail' | 'share' | 'backup' | 'factor';

/** What is left to do after the first start, in the order in which it helps; each vanishes as it becomes true. */
export function leftToDo(office: Furnished): LeftKind[] {
  const wanted: [LeftKind, boolean][] = [
    ['files', !office.files],
    ['share', !office.shares],
    ['reach', !office.reached && !office.insideOnly],
    ['mail', !office.mail],
    ['backup', !office.backups],
    ['factor', !office.factor],
  ];
  return wanted.filter(([, open]) => open).map(([kind]) => kind);
}
