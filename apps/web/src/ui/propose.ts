import { proposalBytes, proposePassword } from '@quay/core';

/**
 * A password proposed by the program, from the browser's own random bytes. The word list is large: it comes when it is
 * needed.
 */
export async function proposedPassword(): Promise<{ password: string; bits: number }> {
  const { WORDS } = await import('@quay/core/wordlist');
  return proposePassword(WORDS, crypto.getRandomValues(new Uint8Array(proposalBytes(WORDS.length))));
}
