/** What may be typed into a field for a number. */
export interface NumberRange {
  min: number;
  max: number;
  /** Whole numbers only. */
  whole: boolean;
}

/** What was typed: a number, nothing (null), or something else, with the words that say what is expected. */
export type TypedNumber = { value: number | null; fault: null } | { value: null; fault: string };

// Digits in groups of three, by comma, apostrophe or a space (also a narrow one: U+00A0, U+2009, U+202F).
const GROUPED = /^\d{1,3}([,'\u0020\u00a0\u2009\u202f]\d{3})+(\.\d+)?$/;
const DIGITS = /^\d{1,15}$/;
const PLAIN = /^\d{1,15}(\.\d+)?$/;

/**
 * Reads a number as people write it: "1,000" and "1 000" are a thousand, "2.5" and "2,5" are two and a half. Whatever
 * is not understood is a fault and never "no limit".
 */
export function typedNumber(text: string, range: NumberRange): TypedNumber {
  const typed = text.trim();
  if (typed === '') return { value: null, fault: null };
  const plain = GROUPED.test(typed) ? typed.replace(/[^\d.]/g, '') : typed.replace(',', '.');
  const value = (range.whole ? DIGITS : PLAIN).test(plain) ? Number(plain) : NaN;
  const fits = value >= range.min && value <= range.max;
  return fits ? { value, fault: null } : { value: null, fault: rangeWords(range) };
}

function rangeWords({ min, max, whole }: NumberRange): string {
  const [from, to] = [min, max].map((n) => n.toLocaleString('en-GB', { maximumFractionDigits: 9 }));
  return `A ${whole ? 'whole number' : 'number'} from ${from} to ${to}.`;
}
