import { describe, expect, it } from 'vitest';
import { SEEN_HOLDS_MS, traceSeen, type SeenFacts } from './seen.js';
import { traceVerdict } from './trace.js';

const AT = Date.UTC(2026, 10, 27, 12);
const DAY = 86_400_000;
const WELL: SeenFacts = {
  wayIn: 'mapping',
  host: 'files.saltmarsh.example',
  port: 443,
  at: AT,
  server: { address: '192.168.20.10', port: 8443 },
  line: { seenAddress: null, routerAddress: '198.51.100.24' },
  mapping: {
    protocol: 'upnp',
    outcome: 'present',
    externalPort: 443,
    internal: { address: '192.168.20.10', port: 8443 },
    leaseSecondsLeft: 7000,
  },
  openedBy: 'program',
  seen: { at: AT - 4 * 60_000, by: 'telephone', from: '203.0.113.7', encrypted: true },
  certificate: { notBefore: AT - 10 * DAY, notAfter: AT + 80 * DAY, issuer: 'A', names: ['files.saltmarsh.example'] },
};
const verdict = (part: Partial<SeenFacts>) => {
  const trace = traceSeen({ ...WELL, ...part });
  return trace && traceVerdict(trace);
};

describe('that somebody came in from outside', () => {
  it('is told with how long ago it was', () => {
    expect(verdict({})).toEqual({ mark: 'ok', stage: null });
    expect(traceSeen(WELL)?.find((s) => s.stage === 'page')).toMatchObject({ value: 'opened', note: '4 min ago' });
  });
  it('counts for a day, and not longer', () => {
    expect(verdict({ seen: { ...WELL.seen, at: AT - SEEN_HOLDS_MS } })?.mark).toBe('ok');
    expect(verdict({ seen: { ...WELL.seen, at: AT - SEEN_HOLDS_MS - 1 } })).toBeNull();
  });
  it('does not outweigh what is known to be otherwise by now', () => {
    const { line, certificate } = WELL;
    expect(verdict({ line: { ...line, seenAddress: null, routerAddress: '100.64.1.1' } })).toEqual({
      mark: 'fail',
      stage: 'line',
    });
    expect(verdict({ certificate: certificate && { ...certificate, notAfter: AT - DAY } })).toEqual({
      mark: 'fail',
      stage: 'certificate',
    });
    const mapping = WELL.mapping && { ...WELL.mapping, internal: { address: '192.168.20.99', port: 8443 } };
    expect(verdict({ mapping })).toEqual({ mark: 'fail', stage: 'router' });
  });
  it('shows a forward that was made by hand as such', () => {
    const mapping = {
      protocol: null,
      outcome: 'no-protocol',
      externalPort: null,
      internal: null,
      leaseSecondsLeft: null,
    } as const;
    const router = (openedBy: SeenFacts['openedBy']) =>
      traceSeen({ ...WELL, mapping, openedBy })?.find((stage) => stage.stage === 'router');
    expect(router('hand')).toMatchObject({ mark: 'ok', note: 'set by hand' });
    // What the program opened is not there any more.
    expect(router('program')?.mark).toBe('fail');
  });
  it('without encryption says nothing of the certificate', () =>
    expect(
      traceSeen({ ...WELL, seen: { ...WELL.seen, encrypted: false } })?.find((s) => s.stage === 'certificate')?.mark,
    ).toBe('skipped'));
});
