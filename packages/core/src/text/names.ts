/** So many are named; of the others it is said how many there are. */
const NAMED = 3;
const AND = new Intl.ListFormat('en-GB', { type: 'conjunction' });

/** "Bill.csv, Drawings and Instructions.pdf", or "Bill.csv, Drawings, Instructions.pdf and 4 more"; empty of nothing. */
export function someNames(names: readonly string[]): string {
  const more = names.length - NAMED;
  return AND.format(more > 0 ? [...names.slice(0, NAMED), `${more} more`] : names);
}
