import { describe, expect, it } from 'vitest';
import { beginsAsFormula, decodeList, matchColumns, peopleOfRows } from './people-csv.js';

describe('columns', () => {
  it('are known by their headings', () => {
    expect(matchColumns(['Surname', 'First name', 'E-Mail', 'Telephone', 'User name', 'Team'])).toEqual([
      ...['last', 'first', 'email', null, 'signInName', 'groups'],
    ]);
    expect(matchColumns(['Display Name', 'Name', 'mail address'])).toEqual(['name', null, 'email']);
  });
});

describe('people', () => {
  it('come from rows, each with its line', () => {
    const columns = matchColumns(['First name', 'Surname', 'Mail', 'Groups']);
    const rows = [
      ['Zoë', 'Calder', 'zoe@calder.example', 'Site crew; Drawing office'],
      ['', '', ' ', ''],
      ['Marek', 'Hale', 'm.hale@fenway.example', ''],
    ];
    expect(peopleOfRows(rows, columns)).toEqual([
      {
        ...{ line: 2, name: 'Zoë Calder', email: 'zoe@calder.example', signInName: 'zoe' },
        groups: ['Site crew', 'Drawing office'],
      },
      { line: 4, name: 'Marek Hale', email: 'm.hale@fenway.example', signInName: 'marek', groups: [] },
    ]);
  });
  it('a row that is shorter than the headings lacks what is left out', () => {
    expect(peopleOfRows([['Bo']], matchColumns(['Name', 'Mail']))).toMatchObject([{ name: 'Bo', email: '' }]);
  });
});

// OWASP, CSV Injection: =, +, -, @, tab and carriage return begin what a spreadsheet works out.
it.each(['=1+1', '+44', '-2', '@SUM(A1)', '\t=1', '\r=1'])('%j begins as a formula', (cell) =>
  expect([beginsAsFormula(cell), beginsAsFormula(`x${cell}`)]).toEqual([true, false]),
);

describe('the text of a file', () => {
  const decode = (encoding: string, bytes: Uint8Array) => new TextDecoder(encoding, { fatal: true }).decode(bytes);
  const utf16 = (text: string, big: boolean) => {
    const bytes = [...text].flatMap((c) => [c.charCodeAt(0) & 255, c.charCodeAt(0) >> 8]);
    return Uint8Array.from(
      big ? (bytes.flatMap((_, i) => (i % 2 ? [bytes[i], bytes[i - 1]] : [])) as number[]) : bytes,
    );
  };
  it.each([
    ['UTF-8', new TextEncoder().encode('Zoë')],
    ['UTF-8 with a mark', Uint8Array.from([0xef, 0xbb, 0xbf, ...new TextEncoder().encode('Zoë')])],
    ['UTF-16, little end first', Uint8Array.from([0xff, 0xfe, ...utf16('Zoë', false)])],
    ['UTF-16, big end first', Uint8Array.from([0xfe, 0xff, ...utf16('Zoë', true)])],
    ['windows-1252', Uint8Array.from([0x5a, 0x6f, 0xeb])],
  ])('is read from %s', (_, bytes) => expect(decodeList(bytes, decode)).toBe('Zoë'));
});
