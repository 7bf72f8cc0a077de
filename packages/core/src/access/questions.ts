import type { Act } from './acts.js';

/** A question about who may what, with the names as they were typed. */
export type AccessQuestion =
  | { kind: 'who'; act: Act; folder: string }
  | { kind: 'what'; person: string }
  /** `folder` is null where "here" was said, or nothing. */
  | { kind: 'why-not'; person: string; act: Act; folder: string | null };

/** Verbs as people use them, the act that each is of. */
const VERBS: [Act, readonly string[]][] = [
  ['see', ['see', 'view', 'find']],
  ['read', ['open', 'read', 'download', 'reach', 'get into', 'access']],
  ['add', ['upload to', 'upload into', 'upload', 'add to', 'add files to', 'add files', 'add']],
  ['change', ['edit', 'change', 'write to', 'write', 'rename']],
  ['remove', ['delete', 'remove']],
  ['publish', ['publish', 'share']],
  ['manage', ['manage', 'grant on', 'grant']],
];
const VERB = VERBS.flatMap(([, words]) => words)
  .sort((a, b) => b.length - a.length)
  .join('|');
const actOf = (verb: string): Act => VERBS.find(([, words]) => words.includes(verb.toLowerCase()))?.[0] ?? 'read';

const WHO = new RegExp(`^who\\s+(?:can|may|does|could)?\\s*(${VERB}|reaches|sees|manages)\\s+(.+)$`, 'i');
const WHAT = /^what\s+(?:can|may|does|could)\s+(.+?)\s+(?:reach|open|see|access|do|get into)$/i;
const WHY = new RegExp(
  `^why\\s+(?:can['’]?t|cannot|can not|may not|doesn['’]?t|does not)\\s+(.+?)\\s+(${VERB})(?:\\s+(.+))?$`,
  'i',
);

/** What is asked, in one line; null: nothing that is understood here. */
export function readQuestion(text: string): AccessQuestion | null {
  const line = text.trim().replace(/\?+$/, '').replace(/\s+/g, ' ');
  const who = WHO.exec(line);
  if (who)
    return {
      kind: 'who',
      act: actOf((who[1] as string).replace(/^(reach|see|manage)e?s$/i, '$1')),
      folder: nameIn(who[2]),
    };
  const what = WHAT.exec(line);
  if (what) return { kind: 'what', person: nameIn(what[1]) };
  const why = WHY.exec(line);
  if (!why) return null;
  const folder = nameIn(why[3]).replace(/^(in|into|to|on|inside)\s+/i, '');
  const isHere = folder === '' || /^(here|this folder)$/i.test(folder);
  return { kind: 'why-not', person: nameIn(why[1]), act: actOf(why[2] as string), folder: isHere ? null : folder };
}

/** Without the quotation marks that a name may stand in. */
const nameIn = (text: string | undefined): string => (text ?? '').trim().replace(/^["“'*](.*)["”'*]$/, '$1');

/**
 * Those who are meant by a name as it was typed: who is called exactly that, else whose first name, sign-in name or a
 * part of whose name it is.
 */
export function namedAs<T extends { name: string; signInName?: string }>(typed: string, all: readonly T[]): T[] {
  const wanted = typed.toLowerCase();
  const ways: ((one: T) => boolean)[] = [
    ({ name }) => name.toLowerCase() === wanted,
    ({ name, signInName }) => signInName === wanted || name.toLowerCase().split(/\s+/).includes(wanted),
    ({ name }) => name.toLowerCase().includes(wanted),
  ];
  for (const way of ways) {
    const found = all.filter(way);
    if (found.length > 0) return found;
  }
  return [];
}
