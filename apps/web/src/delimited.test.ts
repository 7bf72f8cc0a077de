import { describe, expect, it } from 'vitest';
import { readDelimited } from './delimited';

describe('a table in a file', () => {
  // The examples of RFC 4180, section 2.
  it('is read as RFC 4180 says: quotes, line breaks and doubled quotes within them', () => {
    const { head, body } = readDelimited('aaa,bbb,ccc\r\n"b\r\nbb","b""bb",\r\nzzz,yyy,xxx', 'levels.csv');
    expect(head).toEqual(['aaa', 'bbb', 'ccc']);
    expect(body).toEqual([
      ['b\r\nbb', 'b"bb', ''],
      ['zzz', 'yyy', 'xxx'],
    ]);
  });
  it('is parted by what its first line is parted by, or by tabs where its name says so', () => {
    expect(readDelimited('\uFEFFpoint;height\nA1;3,25', 'levels.csv')).toMatchObject({
      head: ['point', 'height'],
      body: [['A1', '3,25']],
    });
    expect(readDelimited('a,b\tc\n1\t2', 'levels.TSV').head).toEqual(['a,b', 'c']);
  });
  it('tells columns of numbers, and whether there is more than is shown', () => {
    const rows = Array.from({ length: 2001 }, (_, n) => `P${n},${n / 4},${n % 2 === 0 ? '' : 1}`);
    const { isNumber, isWhole, body } = readDelimited(`point,height,mark\n${rows.join('\n')}`, 'levels.csv');
    expect([isNumber, isWhole, body.length]).toEqual([[false, true, true], false, 2000]);
    expect(readDelimited('a\n1', 'x.csv').isWhole).toBe(true);
    expect(readDelimited('', 'x.csv')).toEqual({ head: [], body: [], isNumber: [], isWhole: true });
  });
});
