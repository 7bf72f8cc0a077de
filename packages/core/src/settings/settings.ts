import { minutesAhead } from '../text/zone.js';

/** What an office is called and goes by. */
export interface OfficeFacts {
  name: string;
  /** IANA time zone. */
  zone: string;
  /** Whoever gets an account gets a place of their own. */
  homes: boolean;
  /** What visitors read under every share; empty: nothing. */
  words: string;
}

/** "1 h", "5 h 30 min": a whole number of minutes, more than 0. */
function span(minutes: number): string {
  const [hours, rest] = [Math.floor(minutes / 60), minutes % 60];
  return [hours > 0 && `${hours} h`, rest > 0 && `${rest} min`].filter(Boolean).join(' ');
}

/**
 * What a change of the office does, sentence by sentence, told before it is made; none where nothing changes.
 * @param at milliseconds since 1970: clocks differ by the season
 */
export function officeChangeWords(before: OfficeFacts, after: OfficeFacts, at: number): string[] {
  const words: string[] = [];
  if (before.name !== after.name) words.push(`Every page says ${after.name}, also those of visitors.`);
  if (before.zone !== after.zone) {
    const moved = minutesAhead(after.zone, at) - minutesAhead(before.zone, at);
    const told =
      moved === 0
        ? 'Times read as before, for now: both clocks show the same.'
        : `Times read ${span(Math.abs(moved))} ${moved > 0 ? 'later' : 'earlier'}.`;
    words.push(told, 'Shares open and close at the same moments as before.');
  }
  if (before.homes !== after.homes)
    words.push(
      after.homes
        ? 'Whoever gets an account from now on gets a place of their own.'
        : 'Whoever gets an account from now on gets no place of their own; those that are there stay.',
    );
  if (before.words !== after.words)
    words.push(
      after.words === ''
        ? 'Visitors read no words of the office any more.'
        : 'Visitors read these words under every share.',
    );
  return words;
}
