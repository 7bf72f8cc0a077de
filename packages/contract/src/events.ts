/** What the event stream (server-sent events) carries: which things changed, never their contents. */
export interface QuayEvent {
  topic:
    'share' | 'intake' | 'node' | 'store' | 'ledger' | 'session' | 'preview' | 'task' | 'reach' | 'access' | 'missed';
  /** The share, the intake, the folder whose listing changed, the store, the address; of access, that it changed and no more; of what was missed while nothing could be heard, nothing. */
  id: string;
  /** Of the ledger: whose doing it was, and the share that it concerns. Told to nobody, but decided by. */
  personId?: string | null;
  shareId?: string | null;
}
