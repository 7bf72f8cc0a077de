import type { Response } from 'express';
import parseRange from 'range-parser';
import { Problem } from '../problems/problem.js';

/** The bytes an answer carries: [start, end). */
export interface ByteWindow {
  start: number;
  end: number;
}

/**
 * Decides between a whole and a partial answer and sets status, Content-Length and Content-Range (RFC 9110 §14). One
 * range is served; several are answered whole, as §14.2 allows. If-Range must name the very entity tag (§13.1.5).
 * @throws Problem range-not-satisfiable, with the size in Content-Range
 */
export function decideRange(res: Response, headers: { range?: string; ifRange?: string }, sizeBytes: number, etag: string): ByteWindow {
  res.setHeader('Accept-Ranges', 'bytes');
  res.setHeader('ETag', etag);
  const wanted = headers.range && (headers.ifRange === undefined || headers.ifRange === etag) ? parseRange(sizeBytes, headers.range) : -2;
  if (wanted === -1) {
    res.setHeader('Content-Range', `bytes */${sizeBytes}`);
    throw new Problem('range-not-satisfiable', 'range.beyond-end', `There are only ${sizeBytes} bytes.`);
  }
  if (wanted === -2 || wanted.type !== 'bytes' || wanted.length !== 1) {
    res.status(200).setHeader('Content-Length', sizeBytes);
    return { start: 0, end: sizeBytes };
  }
  const { start, end } = wanted[0] as { start: number; end: number };
  res.status(206).setHeader('Content-Range', `bytes ${start}-${end}/${sizeBytes}`);
  res.setHeader('Content-Length', end - start + 1);
  return { start, end: end + 1 };
}
