import { describe, expect, it } from 'vitest';
import { attachAdvice, attachedBytes, COMMON_MAIL_LIMIT_BYTES } from './attach.js';

describe('the size of an attachment', () => {
  // Counted by base64 (GNU coreutils) in lines of 76, each ended by CRLF: base64 -w 76 FILE | sed 's/$/\r/' | wc -c
  it.each([
    [0, 0],
    [1, 6],
    [57, 78],
    [58, 84],
    [1000, 1372],
    [1_048_576, 1_434_898],
  ])('%d bytes take %d', (bytes, expected) => expect(attachedBytes(bytes)).toBe(expected));
  it('is 78/57 of what it holds, for much', () =>
    expect(attachedBytes(57_000_000) / 57_000_000).toBeCloseTo(78 / 57, 9));
});

describe('attach or link', () => {
  const facts = { recipients: 1, limitBytes: null, uploadMbit: null };
  it('says the numbers, and which of the two', () => {
    expect(attachAdvice({ ...facts, sizes: [400_000] })).toMatchObject({ can: true, seconds: null });
    const large = attachAdvice({ sizes: [48_000_000], recipients: 3, limitBytes: 25_000_000, uploadMbit: 10 });
    expect(large).toMatchObject({ can: false, seconds: 158 });
    expect(large.words).toBe(
      'As an attachment it is 65.7 MB (a third more than 48 MB), 197 MB for 3 recipients, some 3 minutes of your line. That is more than your mail server takes (25 MB): send the link.',
    );
    expect(attachAdvice({ ...facts, sizes: [10_000_000] }).words).toMatch(/20 MB is what mail servers commonly take/);
  });
  it('ends at the limit exactly', () => {
    const atLimit = Math.floor((COMMON_MAIL_LIMIT_BYTES * 57) / 78 / 57) * 57;
    expect(attachAdvice({ ...facts, sizes: [atLimit] }).can).toBe(attachedBytes(atLimit) <= COMMON_MAIL_LIMIT_BYTES);
    expect(attachAdvice({ ...facts, sizes: [atLimit + 1000] }).can).toBe(false);
    expect(attachAdvice({ ...facts, sizes: [] })).toMatchObject({ can: false, words: 'There is no file to attach.' });
  });
});
