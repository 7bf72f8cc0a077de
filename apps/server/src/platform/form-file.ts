import busboy from 'busboy';
import type { Request } from 'express';
import type { Readable } from 'node:stream';
import { watchPace, type Pace } from './pace.js';
import { Problem } from './problems/problem.js';

/** A file of a form, as the browser names it. */
export interface FormFile {
  name: string;
  mimeType: string;
}

const broken = (): Problem => new Problem('invalid', 'form.broken', 'The form did not arrive as one. Send it again.');
const tooSlow = (): Problem => new Problem('too-slow', 'request.too-slow', 'The request did not arrive whole in time.');

/**
 * Takes the first file of a form as it comes (RFC 7578); what else is in it is let go. Whoever sends nothing for long
 * ends, also before the file and behind it.
 * @throws Problem form.none, form.broken, request.too-slow, and what `take` refuses with
 */
export async function takeFormFile(
  req: Request,
  pace: Pace,
  take: (file: FormFile, stream: Readable) => Promise<void>,
): Promise<void> {
  const form = formOf(req);
  let taking: Promise<void> | null = null;
  const isWaitedFor = () => req.complete || form.writableNeedDrain;
  const stopWatching = watchPace(
    pace,
    () => req.socket.bytesRead,
    isWaitedFor,
    () => form.destroy(tooSlow()),
  );
  try {
    await new Promise<void>((resolve, reject) => {
      form.on('file', (_field, stream, { filename, mimeType }) => {
        if (!filename) return void stream.resume();
        taking = take({ name: filename, mimeType }, stream);
        taking.catch(reject);
      });
      form.on('close', resolve);
      form.on('error', (error) => reject(error instanceof Problem ? error : broken()));
      req.once('aborted', () => form.destroy(broken()));
      req.pipe(form);
    });
    if (taking === null) throw new Problem('invalid', 'form.none', 'Choose a file first.');
    await (taking as Promise<void>);
  } finally {
    stopWatching();
    // What still comes is let go, so that the answer can be read.
    req.unpipe(form);
    req.resume();
  }
}

function formOf({ headers }: Request): busboy.Busboy {
  try {
    return busboy({ headers, defParamCharset: 'utf8', limits: { files: 1, fields: 0 } });
  } catch {
    throw broken();
  }
}
