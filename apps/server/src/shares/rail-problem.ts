import type { RailFault, RailField } from '@quay/core';
import { invalidField, Problem } from '../platform/problems/problem.js';

/** The field of a request that a rule is about; of others nothing that is asked for would do. */
const FIELDS: Partial<Record<RailField, string>> = {
  window: 'window.closesAt',
  password: 'password',
  audience: 'audience',
  may: 'may.level',
  watermark: 'may.watermark',
  limit: 'visitLimit',
  address: 'addressId',
};

/** That a rule is not kept to, at the field that it is about. An intake says nothing of what visitors may do. */
export function railProblem({ rail, field, words }: RailFault, of: 'share' | 'intake' = 'share'): Problem {
  const at = of === 'intake' && field === 'may' ? undefined : FIELDS[field];
  const code = `guardrail.${rail}`;
  return at === undefined ? new Problem('forbidden', code, words) : invalidField(at, code, words);
}
