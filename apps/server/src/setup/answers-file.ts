import {
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
import { judgeYaml, readYaml, type FileFault } from '../platform/yaml-file.js';

/** All that the first start asks, as a file answers it. */
export interface FileAnswers {
  office: SetupOffice;
  you: SetupYou;
  place: SetupPlace;
  stores: SetupStores;
  mail: SetupMail;
  wayIn: SetupWayIn;
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
  const { told, faults, lineOf } = readYaml(text);
  if (faults.length > 0) return { faults };
  const parts = told as Record<string, Record<string, unknown>> | null;
  for (const part of ['you', 'mail']) withSecret(parts?.[part], part, readSecret, faults, lineOf);
  const judged = judgeYaml(told, schema, lineOf);
  const all = [...faults, ...judged.faults].sort((a, b) => a.line - b.line);
  return all.length > 0 ? { faults: all } : { answers: judged.value };
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
