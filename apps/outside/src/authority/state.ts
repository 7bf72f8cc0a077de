/** The objects of RFC 8555 §7.1, and how their states follow one another. */
export type ChallengeType = 'http-01' | 'dns-01';

export interface Challenge {
  id: string;
  type: ChallengeType;
  token: string;
  status: 'pending' | 'processing' | 'valid' | 'invalid';
  validatedAt: string | null;
  error: AcmeProblem | null;
}
export interface Authorization {
  id: string;
  accountId: string;
  name: string;
  wildcard: boolean;
  status: 'pending' | 'valid' | 'invalid';
  expires: string;
  challenges: Challenge[];
}
export interface Order {
  id: string;
  accountId: string;
  names: string[];
  authorizationIds: string[];
  status: 'pending' | 'ready' | 'processing' | 'valid' | 'invalid';
  expires: string;
  certificateId: string | null;
  error: AcmeProblem | null;
}
export interface AcmeProblem {
  type: string;
  detail: string;
  status: number;
}

export interface AuthorityFaults {
  /** Every validation fails. */
  failValidation: boolean;
  /** Orders are refused for their number (RFC 8555 §6.6). */
  rateLimited: boolean;
  /** The next nonce is refused, as after a restart of the authority (§6.5): clients try again. */
  badNonceOnce: boolean;
  /** Every certificate should be renewed at once (RFC 9773 §4.2): they will be revoked. */
  callsBack: boolean;
  down: boolean;
}
export const NO_FAULTS: AuthorityFaults = {
  failValidation: false,
  rateLimited: false,
  badNonceOnce: false,
  callsBack: false,
  down: false,
};

export function problem(type: string, detail: string, status = 403): AcmeProblem {
  return { type: `urn:ietf:params:acme:error:${type}`, detail, status };
}

/** Why a name is no name that an authority would vouch for; null when it is one. */
export function nameFault(name: string): AcmeProblem | null {
  const plain = name.replace(/^\*\./, '');
  const sound =
    /^(?=.{1,253}$)([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/.test(plain) &&
    !/^\d+$/.test(plain.split('.').at(-1) ?? '');
  return sound ? null : problem('rejectedIdentifier', `${name} is not a name that certificates are issued for`, 400);
}

/** What an order's state becomes when its authorizations have moved on (RFC 8555 §7.1.6). */
export function orderStatus(order: Order, authorizations: readonly Authorization[]): Order['status'] {
  if (order.status !== 'pending') return order.status;
  if (authorizations.some((a) => a.status === 'invalid')) return 'invalid';
  return authorizations.every((a) => a.status === 'valid') ? 'ready' : 'pending';
}
