import { countOf } from '../text/size.js';
import type { Judged, ReachFacts, Remedy } from './facts.js';
import { seconds } from './read-facts.js';

const DAY_MS = 86_400_000;
/** Common practice, no source: renewed at a third of its life; what has a quarter left, or two weeks, was not. */
const certificateWarnMs = (lifeMs: number): number => Math.min(14 * DAY_MS, lifeMs / 4);
/** Common practice, no source: after so long people think that nothing comes. */
const SLOW_MS = 4000;
/** RFC 6797 names no least value; half a year is common practice, no source. */
const HSTS_LEAST_SECONDS = 15_552_000;

export function judgeCertificate(f: ReachFacts): Judged {
  const t = f.tls;
  const obtain: Remedy = { act: 'get-certificate', words: `Get a certificate for ${f.host}` };
  if (!t) return { mark: 'skipped', value: 'plain HTTP' };
  if (t.outcome === 'no-tls')
    return {
      mark: 'fail',
      value: 'no encryption',
      reason: 'The server answers without encryption on this port.',
      remedies: [obtain],
    };
  if (t.outcome === 'stalls')
    return {
      mark: 'fail',
      value: 'stalls',
      reason:
        'Short answers come and long ones do not: packets beyond a size are lost on the way, and nobody says so (a hole in the path MTU, RFC 4821).',
      remedies: [
        {
          act: null,
          words: "On the router: let ICMP of the type 'too big' through, or limit the size of segments (MSS) to 1360",
        },
      ],
    };
  if (t.outcome === 'old-protocol')
    return {
      mark: 'fail',
      value: t.protocol ?? 'old',
      reason: 'Only an outdated version of TLS is offered (RFC 8996 forbids 1.0 and 1.1).',
    };
  if (t.outcome === 'failed')
    return { mark: 'fail', value: 'no agreement', reason: 'Client and server could not agree on encryption.' };
  if (!coversName(t.names, f.host))
    return {
      mark: 'fail',
      value: t.names[0] ?? 'no name',
      reason: `The certificate is for ${t.names.join(', ') || 'nobody'}, not for ${f.host} (RFC 9525 §6).`,
      remedies: [obtain],
    };
  if (f.at < t.notBefore)
    return {
      mark: 'fail',
      value: 'not yet valid',
      reason: 'The certificate begins later: the clock of one of the two machines is wrong.',
    };
  if (f.at >= t.notAfter)
    return {
      mark: 'fail',
      value: 'expired',
      reason: `The certificate ended ${countOf(Math.floor((f.at - t.notAfter) / DAY_MS), 'day')} ago.`,
      remedies: [obtain],
    };
  if (!t.trusted)
    return {
      mark: 'fail',
      value: 'not trusted',
      reason: CHAIN_WORDS[t.chainFault ?? 'untrusted'](t.issuer),
      remedies: [obtain],
    };
  const left = countOf(Math.floor((t.notAfter - f.at) / DAY_MS), 'day');
  if (t.notAfter - f.at < certificateWarnMs(t.notAfter - t.notBefore))
    return {
      mark: 'warn',
      value: `${left} left`,
      reason: `The certificate ends in ${left} and has not been renewed.`,
      remedies: [obtain],
    };
  return { mark: 'ok', value: `${left} left`, note: t.protocol ?? '' };
}

const CHAIN_WORDS: Record<'expired' | 'untrusted' | 'incomplete', (issuer: string) => string> = {
  expired: (issuer) => `A certificate above it in the chain has ended, so nobody trusts what ${issuer} signed with it.`,
  incomplete: (issuer) => `The server does not send the chain that leads from ${issuer} to a root that browsers know.`,
  untrusted: (issuer) => `Browsers do not trust ${issuer}, who issued the certificate.`,
};

export function judgeRedirect(f: ReachFacts): Judged {
  const r = f.redirect;
  const on: Remedy = {
    act: 'redirect-on',
    words: `Answer http://${f.host} with a redirect to https (301), and HSTS for half a year`,
  };
  if (!r || !f.tls) return { mark: 'skipped', value: '–' };
  if (r.outcome === 'closed')
    return {
      mark: 'warn',
      value: 'port 80 closed',
      reason: 'Whoever types the address without https gets no answer.',
      remedies: [on],
    };
  if (r.outcome === 'silent')
    return {
      mark: 'warn',
      value: 'port 80 silent',
      reason: 'Whoever types the address without https is taken in on port 80, and gets no answer.',
      remedies: [on],
    };
  if (r.outcome === 'no-redirect')
    return {
      mark: 'warn',
      value: `status ${r.status}`,
      reason: `Port 80 answers with the status ${r.status} and sends nobody on: another program or the router answers there.`,
      remedies: [on],
    };
  if (r.outcome === 'serves-plain')
    return {
      mark: 'fail',
      value: 'plain HTTP',
      reason: 'Pages are served without encryption on port 80, passwords included.',
      remedies: [on],
    };
  if (r.outcome === 'elsewhere')
    return { mark: 'fail', value: 'elsewhere', reason: `Plain HTTP leads to ${r.location}.`, remedies: [on] };
  if ((r.hstsSeconds ?? 0) < HSTS_LEAST_SECONDS)
    return {
      mark: 'warn',
      value: 'http → https',
      note: 'no HSTS',
      reason: 'Browsers are not told to keep to https (RFC 6797).',
      remedies: [on],
    };
  return { mark: 'ok', value: 'http → https', note: String(r.status ?? '') };
}

export function judgePage(f: ReachFacts): Judged {
  const p = f.page;
  if (!p) return { mark: 'fail', value: 'not asked', reason: 'The page was not asked for.' };
  switch (p.outcome) {
    case 'right':
      if (p.elapsedMs >= SLOW_MS)
        return {
          mark: 'warn',
          value: 'slow',
          note: seconds(p.elapsedMs),
          reason: `The page came, and only after ${seconds(p.elapsedMs)}.`,
        };
      return { mark: 'ok', value: 'share page', note: `${Math.round(p.elapsedMs)} ms` };
    case 'wrong-server':
      return {
        mark: 'fail',
        value: 'another server',
        reason: 'Something else answers at this address: the proof that was asked for did not come back.',
      };
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(p.elapsedMs),
        reason: `The connection stood, and no page came within ${seconds(p.elapsedMs)}.`,
      };
    case 'error':
      return { mark: 'fail', value: `status ${p.status}`, reason: `The server answered with the status ${p.status}.` };
  }
}

/**
 * Whether a certificate's names cover a host (RFC 9525 §6.3): compared without case, a wildcard stands for exactly one
 * label, the leftmost, and for the whole of it.
 */
export function coversName(names: readonly string[], host: string): boolean {
  const wanted = host.toLowerCase().replace(/\.$/, '');
  return names.some((name) => {
    const pattern = name.toLowerCase();
    if (!pattern.startsWith('*.')) return pattern === wanted;
    const rest = pattern.slice(1);
    const label = wanted.slice(0, Math.max(0, wanted.length - rest.length));
    return wanted.endsWith(rest) && label !== '' && !label.includes('.');
  });
}
