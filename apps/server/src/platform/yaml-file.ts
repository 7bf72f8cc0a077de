import { sentenceOf } from '@quay/contract';
import type Joi from 'joi';
import { isNode, LineCounter, parseDocument, type Document } from 'yaml';

/** What is wrong with a file, and in which line: counted from 1; 0 for what is missing altogether. */
export interface FileFault {
  line: number;
  /** "you.email". */
  path: string;
  words: string;
}

export interface ReadYaml {
  /** What the file says; null: nothing, or it is no YAML. */
  told: unknown;
  faults: FileFault[];
  /** The line of what a path leads to, or of the nearest thing that it is missing in; 0: there is none. */
  lineOf: (path: readonly (string | number)[]) => number;
}

/** Reads YAML 1.2; each fault has its line. */
export function readYaml(text: string): ReadYaml {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, prettyErrors: false });
  const lineOf = (path: readonly (string | number)[]): number => {
    for (let length = path.length; length > 0; length -= 1) {
      const line = lineOfKey(document, path.slice(0, length), lines);
      if (line) return line;
    }
    return 0;
  };
  const faults = document.errors.map((e) => ({
    line: lines.linePos(e.pos[0]).line,
    path: '',
    words: sentenceOf(e.message),
  }));
  return { told: faults.length > 0 ? null : document.toJS(), faults, lineOf };
}

/** Judges what a file says. @returns the value as the schema makes it, and what is wrong with it, by lines */
export function judgeYaml<T>(
  told: unknown,
  schema: Joi.ObjectSchema<T>,
  lineOf: ReadYaml['lineOf'],
): { value: T; faults: FileFault[] } {
  const { error, value } = schema.validate(told ?? {}, { abortEarly: false, errors: { wrap: { label: false } } });
  const faults = (error?.details ?? []).map(({ path, message }) => ({
    line: lineOf(path),
    path: path.join('.'),
    words: sentenceOf(message),
  }));
  return { value: value as T, faults: faults.sort((a, b) => a.line - b.line) };
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
