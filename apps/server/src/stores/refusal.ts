import { admissionWords, type AdmissionFault, type Room, type StorePolicy } from '@quay/core';
import { invalidField, Problem } from '../platform/problems/problem.js';

/** The Problem that an {@link AdmissionFault} is told as. */
export function refusal(fault: AdmissionFault, policy: StorePolicy, room?: Room, name?: string): Problem {
  const rule = admissionWords(fault, policy, room);
  const words = name === undefined ? rule : `"${name}": ${rule}`;
  switch (fault) {
    case 'disk.full':
      return new Problem('no-space', 'disk.full', words, { freeBytes: room?.diskFreeBytes ?? 0 });
    case 'quota.person':
    case 'quota.store':
    case 'quota.outgoing': {
      const left = {
        'quota.person': room?.personLeftBytes,
        'quota.store': room?.storeLeftBytes,
        'quota.outgoing': room?.outgoingLeftBytes,
      };
      return new Problem('no-space', fault, words, { leftBytes: left[fault] ?? 0 });
    }
    case 'file.too-large':
      return new Problem('too-large', fault, words);
    default:
      return invalidField('name', fault, words);
  }
}
