/**
 * Who does something: somebody of the office, a guest with an account, a visitor with a link, or the program itself.
 */
export type Actor =
  | { kind: 'person' | 'guest'; id: string; name: string }
  /** `id` is that of the visit or the deposit. */
  | { kind: 'visitor'; id: string | null; name: string }
  | { kind: 'system'; id: null; name: string };

/** The program itself. */
export const SYSTEM_ACTOR: Actor = { kind: 'system', id: null, name: 'Lockfast Quay' };
