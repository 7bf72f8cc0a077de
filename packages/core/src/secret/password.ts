/** Passwords the program proposes hold at least this many bits. */
export const PROPOSED_MIN_BITS = 50;

/**
 * Shortest and longest password that is accepted for a share (longest: well above any phrase, and bounds the hashing).
 */
export const PASSWORD_LENGTH = { min: 6, max: 200 } as const;

/** log2 of the number of equally likely choices. */
export function bitsOf(choices: number): number {
  return Math.log2(choices);
}

/** How many random bytes {@link proposePassword} reads for a list of that many words. */
export function proposalBytes(wordCount: number): number {
  return 4 * wordsNeeded(wordCount);
}

function wordsNeeded(wordCount: number): number {
  return Math.ceil(PROPOSED_MIN_BITS / bitsOf(wordCount));
}

/**
 * A password of words: as many as reach 50 bits (four from a list of 7776: 51.7 bits), joined by hyphens.
 * Each word takes 32 random bits; the bias of the remainder is below 7776 / 2^32, two parts in a million.
 * @param random at least {@link proposalBytes} bytes from a cryptographic generator
 */
export function proposePassword(words: readonly string[], random: Uint8Array): { password: string; bits: number } {
  const count = wordsNeeded(words.length);
  if (random.length < count * 4) throw new RangeError(`${count * 4} random bytes are needed`);
  const view = new DataView(random.buffer, random.byteOffset, random.byteLength);
  const picked = Array.from({ length: count }, (_, i) => words[view.getUint32(i * 4) % words.length] as string);
  return { password: picked.join('-'), bits: count * bitsOf(words.length) };
}

/** Typed passwords below this zxcvbn score need a deliberate override. */
export const STRONG_ENOUGH_SCORE = 3;

/** Wrong passwords that a share bears from one source in a minute before it asks that source to wait. */
export const PASSWORD_TRIES_PER_MINUTE = 10;
/**
 * Passwords that are tried at a share in a minute by all sources together that have not had the right one yet, at all
 * its doors: the rate of guessing. What is more waits its turn; whoever had the right one before does not wait.
 */
export const SHARED_TRIES_PER_MINUTE = 60;

/** Years that guessing takes on average (half of all possibilities) at the enforced rate. A year is 365.25 days. */
export function guessingYears(bits: number, triesPerMinute: number): number {
  return 2 ** (bits - 1) / triesPerMinute / 60 / 24 / 365.25;
}

const SCALES: [number, string][] = [
  [1e12, 'million million'],
  [1e9, 'thousand million'],
  [1e6, 'million'],
  [1e3, 'thousand'],
];

/** A length of time in round words: "41 years", "4 million years", "3 days", "less than a minute". */
export function guessingWords(years: number): string {
  if (years >= 1e15) return 'longer than anybody can wait';
  for (const [scale, word] of SCALES) {
    if (years >= scale) return `${roundTwo(years / scale)} ${word} years`;
  }
  const minutes = years * 365.25 * 1440;
  const steps: [number, string][] = [
    [525_960, 'year'],
    [1440, 'day'],
    [60, 'hour'],
    [1, 'minute'],
  ];
  for (const [size, word] of steps) {
    if (minutes >= size) {
      const n = roundTwo(minutes / size);
      return `${n} ${word}${n === 1 ? '' : 's'}`;
    }
  }
  return 'less than a minute';
}

function roundTwo(value: number): number {
  return value >= 10 ? Math.round(value) : Math.round(value * 10) / 10;
}
