/** HTML that is safe as it stands; everything else that is put in is escaped. */
export class Html {
  constructor(readonly text: string) {}
}
export type Part = Html | string | null | readonly Part[];

/** HTML in which every value is text. */
export function html(strings: TemplateStringsArray, ...parts: Part[]): Html {
  const put = (part: Part): string => {
    if (part === null) return '';
    if (part instanceof Html) return part.text;
    return typeof part === 'string' ? escaped(part) : part.map(put).join('');
  };
  return new Html(strings.map((s, i) => (i === 0 ? s : put(parts[i - 1] ?? null) + s)).join(''));
}

const ENTITIES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' };
const escaped = (text: string): string => text.replace(/[&<>"']/g, (c) => ENTITIES[c] as string);
