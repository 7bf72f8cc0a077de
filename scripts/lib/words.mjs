/** An end with one clear line instead of a stack. */
export class Stop extends Error {}

export function fail(words) {
  throw new Stop(words);
}

export function say(words) {
  console.log(words);
}

/** The value after a flag, or the default. */
export function option(args, flag, otherwise) {
  const at = args.indexOf(flag);
  if (at === -1) return otherwise;
  const value = args[at + 1];
  if (value === undefined) fail(`${flag} needs a value.`);
  return value;
}

/** The values after every occurrence of a flag. */
export const options = (args, flag) => args.filter((_, index) => args[index - 1] === flag);

/** What stands by itself: no flag, and no value of one of `withValues`. */
export const positional = (args, withValues) =>
  args.filter((arg, index) => !arg.startsWith('--') && !withValues.includes(args[index - 1]));
