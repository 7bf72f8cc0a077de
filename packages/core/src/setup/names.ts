/**
 * Two letters that stand for somebody where there is no room for a name: of the first and the last word, or the first
 * two of the only one.
 */
export function initialsOf(name: string): string {
  const words = name
    .trim()
    .split(/[\s-]+/)
    .map((word) => [...word].filter((c) => /\p{L}|\p{N}/u.test(c)))
    .filter((word) => word.length > 0);
  const [first, last] = [words[0] ?? ['?'], words.length > 1 ? words.at(-1) : undefined];
  return `${first[0] as string}${last?.[0] ?? first[1] ?? ''}`.toUpperCase();
}

/** A sign-in name as it can be typed on any keyboard: letters, digits, dots, hyphens, 2 to 40 characters. */
export const SIGN_IN_NAME = /^[a-z0-9](?:[a-z0-9.-]{0,38}[a-z0-9])$/;

/** What somebody would sign in with, from their name: the first word, as it can be typed. */
export function signInNameFor(name: string): string {
  const plain = name.normalize('NFKD').replace(/\p{M}/gu, '').toLowerCase();
  const typed = (plain.trim().split(/\s+/)[0] ?? '').replace(/[^a-z0-9.-]/g, '');
  return SIGN_IN_NAME.test(typed) ? typed : '';
}

/** Whether the clocks of the world know a zone: a name of the IANA time zone database. */
export function isZone(zone: string): boolean {
  try {
    return (
      new Intl.DateTimeFormat('en', { timeZone: zone }).resolvedOptions().timeZone !== '' && /^[A-Za-z]/.test(zone)
    );
  } catch {
    return false;
  }
}
