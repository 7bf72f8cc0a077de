import { randomInt } from 'node:crypto';

// Crockford's base 32: without I, L, O and U, which are taken for other letters or make words.
const LETTERS = '0123456789ABCDEFGHJKMNPQRSTVWXYZ';
const LENGTH = 8;

/** A code of 40 random bits, as it is stored and compared. */
export const newCode = (): string => Array.from({ length: LENGTH }, () => LETTERS[randomInt(LETTERS.length)]).join('');

/** As it is printed: "K7QM-2XWP". */
export const spelled = (code: string): string => `${code.slice(0, 4)}-${code.slice(4)}`;
