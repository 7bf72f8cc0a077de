/** Something that is done later by itself, or was tried and given up. */
export interface WorkItem {
  id: string;
  /** The queue that it is in. */
  kind: string;
  /** What it does: "Mill Lane drawings closes". */
  words: string;
  state: 'waiting' | 'running' | 'given-up';
  /** When it is due, or is tried again. */
  dueAt: string;
  /** Tries so far that did not work. */
  tries: number;
  /** What went wrong last; null: nothing yet. */
  failure: string | null;
  endedAt: string | null;
}

/** Mail, or a text message. */
export interface MailItem {
  id: string;
  by: 'mail' | 'text-message';
  to: string;
  subject: string;
  state: 'waiting' | 'sent' | 'refused' | 'given-up';
  tries: number;
  /** What the mail server, the gateway, or the way to it, said last. */
  answer: string | null;
  createdAt: string;
  endedAt: string | null;
}

/** What the server does by itself: what waits (soonest first), what was given up, and the newest mail. */
export interface WorkList {
  waiting: WorkItem[];
  /** True when more waits than is shown. */
  moreWaiting: boolean;
  givenUp: WorkItem[];
  mail: MailItem[];
}
/** Rows of each list at most. */
export const WORK_SHOWN = 100;
