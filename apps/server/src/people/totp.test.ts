import { spawnSync } from 'node:child_process';
import { describe, expect, it } from 'vitest';
import { factorStepOf, factorUri, newFactorSecret } from './totp.js';

/** RFC 6238, appendix B: the secret of the SHA-1 rows is the ASCII text "12345678901234567890", here in base32. */
const RFC_SECRET = 'GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ';
/** Appendix B gives eight digits; six are the last six of them (RFC 4226 §5.3, the remainder by 10^6). */
const VECTORS: [seconds: number, code: string][] = [
  [59, '94287082'],
  [1111111109, '07081804'],
  [1111111111, '14050471'],
  [1234567890, '89005924'],
  [2000000000, '69279037'],
  [20000000000, '65353130'],
];

describe('codes of an authenticator', () => {
  it.each(VECTORS)('at %i s as RFC 6238 has it', async (seconds, code) => {
    const step = Math.floor(seconds / 30);
    const six = code.slice(2);
    expect(await factorStepOf(RFC_SECRET, six, seconds * 1000, null)).toBe(step);
    const clocks = await Promise.all(
      [-30, 30, 60].map((off) => factorStepOf(RFC_SECRET, six, (seconds + off) * 1000, null)),
    );
    // One step off is a clock that is a little wrong; two are another code.
    expect(clocks).toEqual([step, step, null]);
    expect(await factorStepOf(RFC_SECRET, six, seconds * 1000, step)).toBeNull();
    expect(await factorStepOf(RFC_SECRET, six, seconds * 1000, step - 1)).toBe(step);
  });

  it('is what oathtool makes of the secret that the QR code carries', async () => {
    for (let i = 0; i < 20; i += 1) {
      const secret = newFactorSecret();
      const uri = new URL(factorUri(secret, 'Saltmarsh Survey Partnership', 'iris'));
      expect([uri.protocol, uri.host, decodeURIComponent(uri.pathname)]).toEqual([
        'otpauth:',
        'totp',
        '/Saltmarsh Survey Partnership:iris',
      ]);
      expect(uri.searchParams.get('issuer')).toBe('Saltmarsh Survey Partnership');
      const at = 1_795_000_000 + i * 1_000_003;
      const told = spawnSync('oathtool', ['--totp', '--base32', `--now=@${at}`, uri.searchParams.get('secret') ?? ''], {
        encoding: 'utf8',
      });
      expect(await factorStepOf(secret, told.stdout.trim(), at * 1000, null)).toBe(Math.floor(at / 30));
    }
  });
  it('is of 160 bits, each time others', () => {
    const secrets = new Set(Array.from({ length: 50 }, newFactorSecret));
    expect(secrets.size).toBe(50);
    for (const secret of secrets) expect(secret).toMatch(/^[A-Z2-7]{32}$/);
  });
  it('refuses what is no code at all', async () => {
    for (const code of ['', '12345', '1234567', 'abcdef']) {
      await expect(factorStepOf(RFC_SECRET, code, 59_000, null).catch(() => null)).resolves.toBeNull();
    }
  });
});
