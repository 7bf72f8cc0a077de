import { dsvFormat } from 'd3';

/** Rows that are shown; the file has all. */
const ROWS_MOST = 2000;
/** By so many rows it is judged whether a column holds numbers. */
const ROWS_JUDGED = 50;

/** A file of values that are parted by commas, semicolons or tabs, as it is shown. */
export interface DelimitedTable {
  head: string[];
  body: string[][];
  /** Which columns hold numbers alone. */
  isNumber: boolean[];
  /** Whether these are all of its rows. */
  isWhole: boolean;
}

/** Reads values as in RFC 4180; what parts them is told by the first line, and by the name for tabs. */
export function readDelimited(text: string, name: string): DelimitedTable {
  const [head = [], ...body] = dsvFormat(delimiterOf(text, name)).parseRows(text.replace(/^\uFEFF/, ''));
  const judged = body.slice(0, ROWS_JUDGED);
  return {
    head,
    body: body.slice(0, ROWS_MOST),
    isNumber: head.map((_, column) => judged.every((row) => isNumberOrEmpty(row[column] ?? ''))),
    isWhole: body.length <= ROWS_MOST,
  };
}

function delimiterOf(text: string, name: string): string {
  if (name.toLowerCase().endsWith('.tsv')) return '\t';
  const [first = ''] = text.split('\n', 1);
  return first.split(';').length > first.split(',').length ? ';' : ',';
}

const isNumberOrEmpty = (cell: string): boolean => cell === '' || (cell.trim() !== '' && Number.isFinite(Number(cell)));
