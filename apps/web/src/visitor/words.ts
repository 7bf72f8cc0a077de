import type { ProblemBody } from '@quay/contract';
import { speechOf, type Texts } from '@quay/core';

// The language that the server chose for this browser; its texts came with the page.
const texts = JSON.parse(document.getElementById('texts')?.textContent ?? '{}') as Texts;
export const speech = speechOf(document.documentElement.lang || 'en', texts);
export const { say, size } = speech;

export const filesOf = (count: number): string => say('files', { count });
export const exactBytes = (count: number): string => say('bytes', { count });

/** A problem in the visitor's words, or in the server's where there are none. */
export const problemWords = ({ code, detail }: Partial<ProblemBody>): string =>
  code !== undefined && speech.has(`problem.${code}`) ? say(`problem.${code}`) : (detail ?? '');
