import type { Request, Response } from 'express';
import { createHash } from 'node:crypto';
import { notFound } from '../platform/problems/problem.js';
import type { PreviewsService } from './previews.service.js';

/** What a picture is of: all of a file small or large, or one page of it, from 1. */
export type Shown = 'thumb' | 'large' | number;

/** @throws Problem not-found */
export function pageNumber(text: string): number {
  const number = Number(text);
  if (!Number.isInteger(number) || number < 1 || number > 100_000) throw notFound('This page');
  return number;
}

/** What is laid over pictures before they are sent, and what tells these from others. */
export interface Marks {
  tag: string;
  over: (picture: Buffer, what: string) => Promise<Buffer>;
}

/** Sends a picture (WebP); 202 while it is being made (RFC 9110 §15.3.3). @throws Problem preview.none */
export function sendPicture(
  previews: PreviewsService,
  file: { id: string; name: string; sha256: Buffer },
  what: Shown,
  req: Request,
  res: Response,
  marks: Marks | null = null,
): Promise<void> {
  return sendMade({ sha256: file.sha256, what, tag: marks?.tag }, req, res, async () => {
    const plain = await previews.picture(file.id, file.sha256, file.name, what);
    return plain && marks ? marks.over(plain, String(what)) : plain;
  });
}

/**
 * Sends a picture that `make` makes, unless whoever asks has it.
 * @param of what it goes by: the bytes that it is of, what of them, and for whom
 * @param make null: it is being made
 */
export async function sendMade(
  of: { sha256: Buffer; what: Shown; tag: string | undefined },
  req: Request,
  res: Response,
  make: () => Promise<Buffer | null>,
): Promise<void> {
  // Who looks at a file is told no checksum of it.
  const named = createHash('sha256').update(of.sha256).update(`picture ${of.what} ${of.tag}`);
  const etag = `"${named.digest('base64url')}"`;
  if (req.headers['if-none-match'] === etag) {
    res.status(304).setHeader('ETag', etag).end();
    return;
  }
  const bytes = await make();
  if (!bytes) {
    res.status(202).set({ 'Retry-After': '1', 'Cache-Control': 'no-store' }).json({ code: 'preview.not-yet' });
    return;
  }
  res
    .writeHead(200, {
      'Content-Type': 'image/webp',
      'Content-Length': bytes.length,
      ETag: etag,
      'Cache-Control': 'private, no-cache',
      'Content-Security-Policy': "sandbox; default-src 'none'",
    })
    .end(bytes);
}
