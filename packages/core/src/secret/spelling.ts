// ITU Radio Regulations, Appendix 14, and ICAO Annex 10 Volume II: the spelling alphabet.
const ALPHABET: Record<string, string> = Object.fromEntries(
  'Alfa Bravo Charlie Delta Echo Foxtrot Golf Hotel India Juliett Kilo Lima Mike November Oscar Papa Quebec Romeo Sierra Tango Uniform Victor Whiskey X-ray Yankee Zulu'
    .split(' ')
    .map((word) => [word[0]?.toLowerCase() ?? '', word]),
);
const SIGNS: Record<string, string> = {
  '-': 'hyphen',
  '.': 'dot',
  _: 'underscore',
  ' ': 'space',
  '!': 'exclamation mark',
  '?': 'question mark',
  '@': 'at',
  '#': 'hash',
  '&': 'and sign',
  '+': 'plus',
  '*': 'star',
  '/': 'slash',
  ',': 'comma',
  ':': 'colon',
  ';': 'semicolon',
  '=': 'equals',
  '%': 'per cent',
  '(': 'opening bracket',
  ')': 'closing bracket',
};

/**
 * How a password is read out over the telephone. Words joined by hyphens are read as words ("copper, hyphen, lantern");
 * anything else letter by letter ("capital Kilo, seven").
 */
export function telephoneSpelling(password: string): string[] {
  if (/^[a-z]+(-[a-z]+)+$/.test(password))
    return password.split('-').flatMap((word, i) => (i ? ['hyphen', word] : [word]));
  return [...password].map((character) => {
    const lower = character.toLowerCase();
    const word = ALPHABET[lower];
    if (word) return character === lower ? word.toLowerCase() : `capital ${word}`;
    return SIGNS[character] ?? character;
  });
}
