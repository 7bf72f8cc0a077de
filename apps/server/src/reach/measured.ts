import { PAGE_MS, WHOLE_MS, type At, type Measured } from '@quay/probe';

/** The way to a probe and back, and a machine that is busy, come on top of what it measures. */
export const PROBE_MS = WHOLE_MS + PAGE_MS + 2500;
/** Bytes of a measurement. */
export const MEASURED_MOST = 100_000;

/** Further addresses of a name that are looked at. */
export const MORE_ADDRESSES = 3;

const isObject = (v: unknown): boolean => v !== null && typeof v === 'object' && !Array.isArray(v);
/** A name of a certificate, or a line of what was said: a redirect may be long. */
const TEXT_MOST = 1500;
const areTexts = (v: unknown, most: number): boolean =>
  Array.isArray(v) && v.length <= most && v.every((t) => typeof t === 'string' && t.length <= TEXT_MOST);
const isSoundAt = ({ connect, tls, page }: At): boolean =>
  [connect, tls, page].every((v) => (v ?? null) === null || isObject(v)) &&
  (!tls || (areTexts(tls.names, 1000) && typeof tls.issuer === 'string')) &&
  (!connect || typeof connect.address === 'string') &&
  (!page || typeof page.body === 'string');
const atOf = ({ asked, connect, tls, page }: At): At => ({
  asked: Number(asked ?? 0),
  connect: connect ?? null,
  tls: tls ?? null,
  page: page ?? null,
});

/**
 * What a probe answered; null when it is not a measurement. Probes stand elsewhere: what they say is looked at before
 * it is believed.
 */
export function readMeasured(text: string): Measured | null {
  try {
    const m = JSON.parse(text) as Measured;
    const others = m.others ?? [];
    const sound =
      isObject(m) &&
      isSoundAt(m) &&
      [m.lookup, m.redirect].every((v) => v === null || isObject(v)) &&
      areTexts(m.exchange, 200) &&
      (!m.lookup || areTexts(m.lookup.addresses, 50)) &&
      Array.isArray(others) &&
      others.length <= MORE_ADDRESSES &&
      others.every((at) => isObject(at) && isSoundAt(at));
    if (!sound) return null;
    const { lookup, redirect, exchange } = m;
    return { lookup, redirect, exchange, ...atOf(m), others: others.map(atOf) };
  } catch {
    return null;
  }
}

/** @throws Error when an answer is no measurement */
export function measuredIn(status: number, text: string): Measured {
  const found = status === 200 ? readMeasured(text) : null;
  if (found) return found;
  throw new Error(
    status === 200 ? 'it answers something that is no measurement' : `it answers with the status ${status}`,
  );
}
