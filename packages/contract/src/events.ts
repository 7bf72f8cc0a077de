/** What the event stream (server-sent events) carries: which things changed, never their contents. */
export interface QuayEvent {
  topic: 'share' | 'node' | 'store' | 'ledger' | 'session' | 'preview' | 'task';
  /** The share, the folder whose listing changed, or the store. */
  id: string;
}
