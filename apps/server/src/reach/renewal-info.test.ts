import { describe, expect, it } from 'vitest';
import { readRenewalWish, renewalName } from './renewal-info.js';

// RFC 9773, appendix A, and what §4.1 makes of it.
const EXAMPLE = `-----BEGIN CERTIFICATE-----
MIIBQzCB66ADAgECAgUAh2VDITAKBggqhkjOPQQDAjAVMRMwEQYDVQQDEwpFeGFt
cGxlIENBMCIYDzAwMDEwMTAxMDAwMDAwWhgPMDAwMTAxMDEwMDAwMDBaMBYxFDAS
BgNVBAMTC2V4YW1wbGUuY29tMFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEeBZu
7cbpAYNXZLbbh8rNIzuOoqOOtmxA1v7cRm//AwyMwWxyHz4zfwmBhcSrf47NUAFf
qzLQ2PPQxdTXREYEnKMjMCEwHwYDVR0jBBgwFoAUaYhba4dGQEHhs3uEe6CuLN4B
yNQwCgYIKoZIzj0EAwIDRwAwRAIge09+S5TZAlw5tgtiVvuERV6cT4mfutXIlwTb
+FYN/8oCIClDsqBklhB9KAelFiYt9+6FDj3z4KGVelYM5MdsO3pK
-----END CERTIFICATE-----
`;

it('a certificate is named as RFC 9773 §4.1 names its example', () =>
  expect(renewalName(EXAMPLE)).toBe('aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE'));

describe('what an authority says of renewing', () => {
  // The answer of RFC 9773 §4.2.
  const told = {
    suggestedWindow: { start: '2025-01-02T04:00:00Z', end: '2025-01-03T04:00:00Z' },
    explanationURL: 'https://acme.example.com/docs/ari',
  };
  it('is read as the example of §4.2', () =>
    expect(readRenewalWish(JSON.stringify(told), '21600')).toEqual({
      window: { start: Date.parse('2025-01-02T04:00:00Z'), end: Date.parse('2025-01-03T04:00:00Z') },
      why: 'https://acme.example.com/docs/ari',
      askAgainMs: 21_600_000,
    }));
  it.each([
    ['no JSON', '<p>out of order</p>'],
    ['no window', '{}'],
    ['no dates', JSON.stringify({ suggestedWindow: { start: 'soon', end: 'later' } })],
    [
      'an end that is no later than the start',
      JSON.stringify({ suggestedWindow: { ...told.suggestedWindow, end: told.suggestedWindow.start } }),
    ],
  ])('%s is nothing', (_, text) => expect(readRenewalWish(text, undefined)).toBeNull());
  it('a page that is none is left out', () =>
    expect(
      readRenewalWish(JSON.stringify({ ...told, explanationURL: 'javascript:alert(1)' }), undefined),
    ).toMatchObject({
      why: null,
      askAgainMs: null,
    }));
});
