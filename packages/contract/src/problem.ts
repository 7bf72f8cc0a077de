/** The kinds of refusal and the HTTP status each is answered with. */
export const PROBLEM_STATUS = {
  invalid: 400,
  unauthenticated: 401,
  forbidden: 403,
  'not-found': 404,
  'too-slow': 408,
  conflict: 409,
  gone: 410,
  'too-large': 413,
  'range-not-satisfiable': 416,
  misdirected: 421,
  'too-many': 429,
  unexpected: 500,
  unavailable: 503,
  'no-space': 507,
} as const;
export type ProblemKind = keyof typeof PROBLEM_STATUS;

/** One field that was refused. */
export interface FieldFault {
  field: string;
  code: string;
  detail: string;
}

/** An answer of application/problem+json (RFC 9457) with the product's members. */
export interface ProblemBody {
  type: string;
  title: string;
  status: number;
  detail: string;
  /** Stable; what programs compare. */
  code: string;
  requestId: string;
  errors?: FieldFault[];
  /** Further members, named by the code's documentation: `triesLeft`, `retryAfterSeconds`, `opensAt`. */
  [member: string]: unknown;
}

/** What a schema says of a field, as a sentence. */
export const sentenceOf = (text: string): string =>
  `${text.charAt(0).toUpperCase()}${text.slice(1)}${/[.!?]$/.test(text) ? '' : '.'}`;
