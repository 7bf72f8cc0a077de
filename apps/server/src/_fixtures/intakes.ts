import type { HandedIn, IntakeDoor, IntakeSheet } from '@quay/contract';
import { INTAKE_LIMITS, type IntakeAnswers } from '@quay/core';
import { Upload, type DetailedError } from 'tus-js-client';
import type { Client, TestOffice } from './office.js';

export const NOTHING_ASKED = { name: 'may', mail: 'may', firm: 'no', own: [] } as const;
export const NO_ANSWERS: IntakeAnswers = { name: '', mail: '', firm: '', own: {} };

/** What an intake is asked for by, with what a test changes. */
export const intakeAsked = (folderId: string, more: object = {}) => ({
  ...{ title: 'Site photographs', message: '', folderId, window: { opensAt: null, closesAt: null } },
  ...{ folderPattern: '{{date}} {{name}}', limits: INTAKE_LIMITS, questions: NOTHING_ASKED },
  ...more,
});

/** Asks for files. @returns the intake and the token of its link */
export async function askForFiles(
  by: Client,
  folderId: string,
  more: object = {},
): Promise<IntakeSheet & { token: string }> {
  const answer = await by.ask<IntakeSheet>('POST', '/api/intakes', intakeAsked(folderId, more));
  if (answer.status !== 201) throw new Error(`no intake: ${JSON.stringify(answer.body)}`);
  return { ...answer.body, token: answer.body.link.split('/h/')[1] as string };
}

/** Somebody outside who hands something in. */
export interface Outsider {
  client: Client;
  token: string;
}

/** A browser that begins to hand something in. */
export async function outsider(office: TestOffice, token: string, password: string | null = null): Promise<Outsider> {
  const client = office.client();
  const { status, body } = await client.ask('POST', `/h/${token}/begin`, { password });
  if (status !== 200) throw new Error(`not begun: ${JSON.stringify(body)}`);
  return { client, token };
}

export const doorOf = async ({ client, token }: Outsider): Promise<IntakeDoor> =>
  (await client.ask<IntakeDoor>('GET', `/h/${token}/door`)).body;

/** Sends a file by the client of the protocol's own authors (npm tus-js-client). @returns its address */
export const sendFile = (
  { client, token }: Outsider,
  name: string,
  bytes: Buffer,
  path?: string,
  how: { chunkSize?: number } = {},
): Promise<string> =>
  new Promise((resolve, reject) => {
    const upload = new Upload(bytes, {
      endpoint: `${client.origin}/h/${token}/uploads`,
      ...{ chunkSize: how.chunkSize ?? 40_000, retryDelays: null },
      headers: { cookie: client.cookieHeader(`/h/${token}/`) },
      metadata: { name, ...(path !== undefined && { path }) },
      onSuccess: () => resolve(new URL(upload.url as string, client.origin).pathname),
      onError: reject,
    });
    upload.start();
  });

/** The code that a file is refused with. */
export const fileRefused = (by: Outsider, name: string, bytes = Buffer.from('x'), path?: string): Promise<string> =>
  sendFile(by, name, bytes, path).then(
    () => 'taken in',
    (error: DetailedError) =>
      (JSON.parse(error.originalResponse?.getBody() || '{}') as { code?: string }).code ?? 'no code',
  );

/** Hands in what was sent. */
export const handIn = ({ client, token }: Outsider, answers: Partial<IntakeAnswers> = {}) =>
  client.ask<HandedIn & { code?: string }>('POST', `/h/${token}/hand-in`, { ...NO_ANSWERS, ...answers });
