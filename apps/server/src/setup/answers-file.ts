import {
  sentenceOf,
  setupMailSchema,
  setupOfficeSchema,
  setupPlaceSchema,
  setupStoresSchema,
  setupWayInSchema,
  setupYouSchema,
  type SetupMail,
  type SetupOffice,
  type SetupPlace,
  type SetupStores,
  type SetupWayIn,
  type SetupYou,
} from '@quay/contract';
import Joi from 'joi';
import { readFileSync } from 'node:fs';
import { isNode, LineCounter, parseDocument, type Document } from 'yaml';

/** All that the first start asks, as a file answers it. */
export interface FileAnswers {
  office: SetupOffice;
  you: SetupYou;
  place: SetupPlace;
  stores: SetupStores;
  mail: SetupMail;
  wayIn: SetupWayIn;
}

/** What is wrong with a file, and in which line: counted from 1; 0 for what is missing altogether. */
export interface FileFault {
  line: number;
  /** "you.email". */
  path: string;
  words: string;
}

const schema = Joi.object<FileAnswers>({
  office: setupOfficeSchema.required(),
  you: setupYouSchema.required(),
  place: setupPlaceSchema.required(),
  stores: setupStoresSchema.required(),
  mail: setupMailSchema.required(),
  wayIn: setupWayInSchema.required(),
});

/**
 * Reads answers from YAML 1.2. A secret can lie in a file of its own: `passwordFile` in place of `password`.
 * @param readSecret gives what is in such a file
 * @returns the answers, or all that is wrong with them
 */
export function readAnswers(
  text: string,
  readSecret = (path: string): string => readFileSync(path, 'utf8').replace(/\r?\n$/, ''),
): { answers: FileAnswers } | { faults: FileFault[] } {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, prettyErrors: false });
  if (document.errors.length > 0)
    return {
      faults: document.errors.map((e) => ({
        line: lines.linePos(e.pos[0]).line,
        path: '',
        words: sentenceOf(e.message),
      })),
    };
  const lineOf = (path: readonly (string | number)[]): number => {
    // What is missing is told at what it is missing in.
    for (let length = path.length; length > 0; length -= 1) {
      const line = lineOfKey(document, path.slice(0, length), lines);
      if (line) return line;
    }
    return 0;
  };
  const faults: FileFault[] = [];
  const told = document.toJS() as Record<string, Record<string, unknown>> | null;
  for (const part of ['you', 'mail']) withSecret(told?.[part], part, readSecret, faults, lineOf);
  const { error, value } = schema.validate(told ?? {}, { abortEarly: false, errors: { wrap: { label: false } } });
  for (const { path, message } of error?.details ?? [])
    faults.push({ line: lineOf(path), path: path.join('.'), words: sentenceOf(message) });
  return faults.length > 0 ? { faults: faults.sort((a, b) => a.line - b.line) } : { answers: value as FileAnswers };
}

/** Puts what lies in a file of its own in place. */
function withSecret(
  part: Record<string, unknown> | undefined,
  name: string,
  readSecret: (path: string) => string,
  faults: FileFault[],
  lineOf: (path: string[]) => number,
): void {
  const file = part?.['passwordFile'];
  if (!part || file === undefined) return;
  delete part['passwordFile'];
  const fault = (words: string) => {
    faults.push({ line: lineOf([name, 'passwordFile']), path: `${name}.passwordFile`, words });
    part['password'] ??= 'unread-unread-unread';
  };
  if (typeof file !== 'string') return fault('The name of a file is a text.');
  if (part['password'] !== undefined) return fault('The password is there twice: as itself, and in a file.');
  try {
    part['password'] = readSecret(file);
  } catch (error) {
    fault(`${file} cannot be read: ${(error as Error).message}`);
  }
}

/** The line of a member or an item; 0 when it is not there. */
function lineOfKey(document: Document, path: readonly (string | number)[], lines: LineCounter): number {
  const parent = path.length > 1 ? document.getIn(path.slice(0, -1), true) : document.contents;
  const last = path.at(-1);
  const pairs = (parent as { items?: { key?: unknown }[] } | null)?.items ?? [];
  const pair = pairs.find(({ key }) => isNode(key) && (key as { value?: unknown }).value === last);
  const node = pair ? pair.key : document.getIn(path, true);
  const at = isNode(node) ? node.range?.[0] : undefined;
  return at === undefined ? 0 : lines.linePos(at).line;
}
