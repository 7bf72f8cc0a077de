import type { SeenPage } from '@quay/contract';

// What the page of the office and the visitor's page within it tell each other.

/** To the visitor's page: what it shows. */
export interface FromStaff {
  seen: SeenPage;
}

/** From it: it is there; an address was typed at the door; something was pressed by which visitors take or bring. */
export type FromVisitor = { kind: 'ready' } | { kind: 'as-address'; address: string } | { kind: 'nothing-taken' };

export function toStaff(message: FromVisitor): void {
  if (parent !== window) parent.postMessage(message, location.origin);
}
