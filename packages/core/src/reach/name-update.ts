/** What may stand in the address of an update, and is filled in when it is asked. */
export const UPDATE_PLACES = ['name', 'ipv4', 'ipv6', 'user', 'secret'] as const;
export type UpdatePlace = (typeof UPDATE_PLACES)[number];

/** What services of this kind say when it is done (common practice, no source). */
export const USUAL_UPDATE_WORDS = ['good', 'nochg', 'ok'] as const;

const PLACE = /\{(\w+)\}/g;

/** Places in the address that nobody knows how to fill. */
export function unknownPlaces(url: string): string[] {
  return [...url.matchAll(PLACE)]
    .map(([, place = '']) => place)
    .filter((p) => !UPDATE_PLACES.includes(p as UpdatePlace));
}

/** The address with every place filled in, as parts of an address are written (RFC 3986 §2.1). */
export function filledIn(url: string, values: Readonly<Record<UpdatePlace, string>>): string {
  return url.replace(PLACE, (whole, place: string) =>
    place in values ? encodeURIComponent(values[place as UpdatePlace]) : whole,
  );
}

/**
 * Whether an answer says that it is done: its first word is one of those, whatever the case, or it holds the whole of one
 * that is more than a word.
 */
export function saysDone(answer: string, words: readonly string[]): boolean {
  const text = answer.trim().toLowerCase();
  const [first = ''] = text.split(/[\s,:;]+/);
  return words.some((word) => {
    const wanted = word.trim().toLowerCase();
    return wanted !== '' && (first === wanted || (/\W/.test(wanted) && text.includes(wanted)));
  });
}
