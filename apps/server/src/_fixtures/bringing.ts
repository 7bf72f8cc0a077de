import type { UploadAnswer } from '@quay/contract';
import { Upload, type DetailedError } from 'tus-js-client';
import type { Client } from './office.js';

/** A browser that is inside a share. */
export interface Inside {
  client: Client;
  token: string;
}

/** What is said of an upload, as the contract's `UploadMetadata`. */
export type Asked = Partial<Record<'folderId' | 'path' | 'replaces' | 'name' | 'conflict' | 'base', string>>;

/** Sends a file by the client of the protocol's own authors (npm tus-js-client). @returns its address */
export const bring = ({ client, token }: Inside, asked: Asked, bytes: Buffer): Promise<string> =>
  new Promise((resolve, reject) => {
    const upload = new Upload(bytes, {
      endpoint: `${client.origin}/s/${token}/uploads`,
      ...{ chunkSize: 40_000, retryDelays: null, headers: { cookie: client.cookieHeader(`/s/${token}/`) } },
      metadata: { conflict: 'refuse', ...asked },
      onSuccess: () => resolve(new URL(upload.url as string, client.origin).pathname),
      onError: reject,
    });
    upload.start();
  });

/** What a refused upload was told, and where it went on being kept, if it did. */
export const refusal = (visit: Inside, asked: Asked, bytes = Buffer.from('x')): Promise<{ code: string; at: string }> =>
  bring(visit, asked, bytes).then(
    (at) => ({ code: 'taken in', at }),
    (error: DetailedError) => ({
      code: (JSON.parse(error.originalResponse?.getBody() || '{}') as { code: string }).code,
      at: error.originalRequest?.getURL() ?? '',
    }),
  );

/** The code alone. */
export const refused = async (visit: Inside, asked: Asked, bytes = Buffer.from('x')): Promise<string> =>
  (await refusal(visit, asked, bytes)).code;

export const finish = (visit: Inside, at: string, conflict: string) =>
  visit.client.ask<UploadAnswer>('POST', `${at}/finish`, { conflict });
