import { ZxcvbnFactory } from '@zxcvbn-ts/core';
import * as common from '@zxcvbn-ts/language-common';
import * as english from '@zxcvbn-ts/language-en';

const estimator = new ZxcvbnFactory({
  dictionary: { ...common.dictionary, ...english.dictionary },
  graphs: common.adjacencyGraphs,
  translations: english.translations,
});

export interface Strength {
  /** 0 (guessed at once) to 4, as zxcvbn defines it (Wheeler, USENIX Security 2016). */
  score: number;
  /** log2 of the guesses zxcvbn expects. */
  bits: number;
  /** What makes it weak, in words; null when nothing stands out. */
  warning: string | null;
}

/** How hard a typed password is to guess; `context` holds words an attacker would try first (title, office, names). */
export function passwordStrength(password: string, context: string[] = []): Strength {
  // The estimator's time grows with length; beyond 100 characters nothing it could say matters.
  const result = estimator.check(password.slice(0, 100), context);
  return { score: result.score, bits: result.guessesLog10 * Math.log2(10), warning: result.feedback.warning ?? null };
}
