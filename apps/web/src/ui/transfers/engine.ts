import type { BatchAnswer, ConflictChoice, UploadAnswer } from '@quay/contract';
import { TAR_END, tarHead, tarPadding } from '@quay/core';
import { Upload, type DetailedError } from 'tus-js-client';
import { api, ApiProblem } from '../api';

/**
 * One piece of work of the transfers: a large file, or a batch of small ones. Runs in the browser, knows no interface.
 */
export interface Sending {
  /** Stops; what has arrived stays on the server. */
  pause: () => void;
}

export interface FileToSend {
  file: File;
  below: string[];
  name: string;
}

const AWAY = 'The connection broke off. It goes on by itself.';

/** Sends one file as a resumable upload (tus 1.0). `url` goes on with one that has begun. */
export function sendResumable(
  item: FileToSend,
  folderId: string,
  conflict: ConflictChoice,
  url: string | null,
  tell: { begun: (url: string) => void; progress: (sentBytes: number) => void },
): Sending & { answer: Promise<UploadAnswer> } {
  let upload: Upload;
  const answer = new Promise<UploadAnswer>((resolve, reject) => {
    upload = new Upload(item.file, {
      endpoint: '/api/uploads',
      uploadUrl: url,
      storeFingerprintForResuming: false,
      retryDelays: [0, 1000, 3000, 5000],
      metadata: { folderId, name: item.name, conflict, modifiedAt: String(item.file.lastModified) },
      onUploadUrlAvailable: () => tell.begun(new URL(upload.url ?? '', location.origin).pathname),
      onProgress: (sent) => tell.progress(sent),
      onShouldRetry: (error) => {
        const problem = problemOf(error);
        return retryable(problem.status) && problem.code !== 'name.taken';
      },
      onError: (error) => reject(problemOf(error)),
      onSuccess: () => {
        api<{ answer: UploadAnswer | null }>('GET', new URL(upload.url ?? '', location.origin).pathname).then(
          (o) => (o.answer ? resolve(o.answer) : reject(new ApiProblem(0, 'network.away', AWAY))),
          reject,
        );
      },
    });
    upload.start();
  });
  return { answer, pause: () => void upload.abort() };
}

/** Ends an upload that has arrived whole and was refused for its name. */
export function finishResumable(url: string, conflict: ConflictChoice): Promise<UploadAnswer> {
  return api('POST', `${url}/finish`, { conflict });
}

/** Gives an upload up: what has arrived of it is removed (tus 1.0, "Termination", which wants its version named). */
export function stopResumable(url: string): void {
  // Should it not arrive, the part goes by its age.
  api('DELETE', url, undefined, { 'Tus-Resumable': '1.0.0' }).catch(() => undefined);
}

/**
 * Sends many small files as one tar archive. Its parts are the files themselves, so nothing is read into memory here.
 */
export function sendBatch(
  items: FileToSend[],
  folderId: string,
  conflict: ConflictChoice,
  batchId: string,
  progress: (sentBytes: number) => void,
): Sending & { answer: Promise<BatchAnswer> } {
  const parts: BlobPart[] = [];
  for (const { file, below, name } of items)
    parts.push(tarHead([...below, name].join('/'), file.size, file.lastModified), file, tarPadding(file.size));
  parts.push(TAR_END);
  const request = new XMLHttpRequest();
  const answer = new Promise<BatchAnswer>((resolve, reject) => {
    request.open('PUT', `/api/folders/${folderId}/batch?batchId=${batchId}&conflict=${conflict}`);
    request.setRequestHeader('Content-Type', 'application/x-tar');
    request.upload.onprogress = (event) => progress(event.loaded);
    request.onerror = () => reject(new ApiProblem(0, 'network.away', AWAY));
    request.onabort = () => reject(new ApiProblem(0, 'paused', 'Paused.'));
    request.onload = () => {
      const body = parsed(request.responseText) as BatchAnswer & { code?: string; detail?: string };
      if (request.status === 200) resolve(body);
      else
        reject(new ApiProblem(request.status, body.code ?? 'unexpected', body.detail ?? 'The server gave no reason.'));
    };
    request.send(new Blob(parts));
  });
  return { answer, pause: () => request.abort() };
}

/** Whether trying again by itself makes sense: the server is away or busy, not: it said no. */
export function retryable(status: number): boolean {
  return status === 0 || status === 409 || status === 423 || status === 502 || status === 503 || status === 504;
}

function problemOf(error: Error | DetailedError): ApiProblem {
  const response = 'originalResponse' in error ? error.originalResponse : null;
  if (!response) return new ApiProblem(0, 'network.away', AWAY);
  const body = parsed(response.getBody() ?? '') as { code?: string; detail?: string };
  return new ApiProblem(response.getStatus(), body.code ?? 'unexpected', body.detail ?? 'The server gave no reason.');
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return {};
  }
}
