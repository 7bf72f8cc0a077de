import parseRange from 'range-parser';
import { Problem } from '../problems/problem.js';

/** The bytes an answer carries, [start, end), and the part of its head that says so. */
export interface RangeDecision {
  start: number;
  end: number;
  status: 200 | 206;
  headers: Record<string, string | number>;
}

/**
 * Decides between a whole and a partial answer (RFC 9110 §14). One range is served; several are answered whole, as
 * §14.2 allows. If-Range must name the very entity tag (§13.1.5).
 * @throws Problem range-not-satisfiable, with the size in Content-Range
 */
export function decideRange(
  asked: { range?: string; ifRange?: string },
  sizeBytes: number,
  etag: string,
): RangeDecision {
  const whole: RangeDecision = {
    start: 0,
    end: sizeBytes,
    status: 200,
    headers: { 'Accept-Ranges': 'bytes', ETag: etag, 'Content-Length': sizeBytes },
  };
  if (!asked.range || (asked.ifRange !== undefined && asked.ifRange !== etag)) return whole;
  // RFC 9110 §14.1.2: a suffix that is longer than the whole is the whole.
  const suffix = /^bytes=-(\d+)$/.exec(asked.range)?.[1];
  const range = suffix && Number(suffix) > sizeBytes && sizeBytes > 0 ? `bytes=-${sizeBytes}` : asked.range;
  const wanted = parseRange(sizeBytes, range);
  if (wanted === -1)
    throw new Problem(
      'range-not-satisfiable',
      'range.beyond-end',
      `There are only ${sizeBytes} bytes.`,
      {},
      { 'Content-Range': `bytes */${sizeBytes}` },
    );
  if (wanted === -2 || wanted.type !== 'bytes' || wanted.length !== 1) return whole;
  const { start, end } = wanted[0] as { start: number; end: number };
  return {
    start,
    end: end + 1,
    status: 206,
    headers: {
      'Accept-Ranges': 'bytes',
      ETag: etag,
      'Content-Range': `bytes ${start}-${end}/${sizeBytes}`,
      'Content-Length': end - start + 1,
    },
  };
}
