import type { FieldFault, ProblemKind } from '@quay/contract';

/** A refusal with a stable code and words for the person who reads it. Thrown anywhere, answered by the one filter. */
export class Problem extends Error {
  constructor(
    readonly kind: ProblemKind,
    readonly code: string,
    detail: string,
    readonly more: Record<string, unknown> & { errors?: FieldFault[] } = {},
    /** Further lines of the answer's head. */
    readonly headers: Record<string, string> = {},
  ) {
    super(detail);
    this.name = 'Problem';
  }
}

/** One field was refused: the code is the rule's. */
export function invalidField(field: string, code: string, detail: string): Problem {
  return new Problem('invalid', code, detail, { errors: [{ field, code, detail }] });
}

export const notFound = (what = 'This'): Problem =>
  new Problem('not-found', 'not-found', `${what} is not there, or you may not see it.`);
