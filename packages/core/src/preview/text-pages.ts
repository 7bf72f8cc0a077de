/** Columns and lines of a page that a text is drawn on: A4 upright in letters of one width (common practice, no source). */
export const TEXT_PAGE = { columns: 100, lines: 62 } as const;
const TAB = 8;

/**
 * A text as pages of lines, as they are drawn for whoever may look at it and not have it. Lines that are too long go on
 * in the next one; a form feed begins a page, as on paper.
 * @returns at least one page
 */
export function textPages(text: string): string[][] {
  return text
    .replace(/\r\n?/g, '\n')
    .split('\f')
    .flatMap((part) => paged(part.replace(/\n$/, '').split('\n').flatMap(folded)));
}

function paged(lines: readonly string[]): string[][] {
  const pages: string[][] = [];
  for (let at = 0; at < lines.length; at += TEXT_PAGE.lines) pages.push(lines.slice(at, at + TEXT_PAGE.lines));
  return pages;
}

/** Of the general category Cc (Unicode). */
const isControl = (code: number): boolean => code < 0x20 || (code >= 0x7f && code < 0xa0);

/** One line as those that it takes, with blanks for tabs and nothing that cannot be drawn. */
function folded(line: string): string[] {
  const letters: string[] = [];
  for (const letter of line) {
    if (letter === '\t')
      do letters.push(' ');
      while (letters.length % TAB !== 0);
    else if (!isControl(letter.charCodeAt(0))) letters.push(letter);
  }
  const lines: string[] = [];
  for (let at = 0; at < letters.length; at += TEXT_PAGE.columns)
    lines.push(
      letters
        .slice(at, at + TEXT_PAGE.columns)
        .join('')
        .trimEnd(),
    );
  return lines.length === 0 ? [''] : lines;
}
