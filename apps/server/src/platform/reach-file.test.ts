import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, describe, expect, it } from 'vitest';
import { readReachFile } from './reach-file.js';

const folder = mkdtempSync(join(tmpdir(), 'quay-reach-'));
const path = join(folder, 'reach.json');
afterAll(() => rmSync(folder, { recursive: true }));

const read = (text: string) => {
  writeFileSync(path, text);
  return readReachFile(path);
};

describe('the file about the network', () => {
  it('may say everything, something, or nothing', () => {
    expect(read('{}')).toEqual({});
    const some = { gateway: '192.168.20.1', checkEveryMinutes: 5, relay: null };
    expect(read(JSON.stringify(some))).toEqual(some);
  });
  it.each([
    ['{"gatway": "192.168.20.1"}', '"gatway" is not allowed'],
    ['{"tls": {"host": "0.0.0.0"}}', '"tls.port" is required'],
    ['{"tls": {"host": "0.0.0.0", "port": "8443"}}', '"tls.port" must be a number'],
    ['{"stun": {"address": "203.0.113.19", "port": 0}}', '"stun.port" must be greater than or equal to 1'],
    ['{"roots": ["/etc/root.pem"]}', '"roots[0]" is no certificate as PEM'],
    ['{"probes": {"moon": {}}}', '"probes.moon" is not allowed'],
    [
      '{"relay": "relay1.WyIxMjcuMC4wLjEiLDE3NDQzLCJzYWx0bWFyc2giLCJaSFpE"}',
      '"relay" is no invitation of a relay, or not whole',
    ],
    ['{"gateway": "192.168.20.1",}', 'cannot be read'],
    ['[]', '"value" must be of type object'],
  ])('%s is named at the start', (text, words) => {
    expect(() => read(text)).toThrow(words);
    expect(() => read(text)).toThrow(path);
  });
  it('names everything that is wrong at once, and a file that is not there', () => {
    expect(() => read('{"a": 1, "b": 2}')).toThrow(/"a" is not allowed; "b" is not allowed/);
    expect(() => readReachFile(join(folder, 'none.json'))).toThrow(/none\.json cannot be read/);
  });
});
