/** How the page of an intake looks within a page of the office's own: colours as #rrggbb. */
export interface EmbedColours {
  /** Text. */
  ink: string;
  paper: string;
  /** What is pressed, with text in the colour of the paper. */
  accent: string;
}

/** Where the page of an intake may be shown within another. */
export interface Embed {
  /** Of those pages, as browsers name them: scheme, host and port (RFC 6454 §6.2). */
  origins: readonly string[];
  /** Null: as ever. */
  colours: EmbedColours | null;
}

export const MOST_ORIGINS = 10;
const HOST = '[a-z0-9]([a-z0-9-]*[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*';
const ORIGIN = new RegExp(`^https?://${HOST}(:[1-9][0-9]{0,4})?$`);
const DEFAULT_PORT = /^(https?):\/\/([^:]+):(443|80)$/;

/** An address of a page as the origin of it; null: it is none. Whatever follows the host is left out. */
export function originOf(text: string): string | null {
  const typed = text.trim().toLowerCase();
  const [, origin = ''] = /^(https?:\/\/[^/?#]*)/.exec(typed) ?? [];
  if (origin.length > 260 || !ORIGIN.test(origin)) return null;
  const [, scheme, host, port] = DEFAULT_PORT.exec(origin) ?? [];
  const isDefault = (scheme === 'https' && port === '443') || (scheme === 'http' && port === '80');
  return isDefault ? `${scheme}://${host}` : origin;
}

const COLOUR = /^#[0-9a-f]{6}$/i;
/** What text needs to be read (WCAG 2.2, 1.4.3). */
const LEAST_CONTRAST = 4.5;

/** How well one colour is read on another, from 1 to 21 (WCAG 2.2, "contrast ratio"). @param one, other #rrggbb */
export function contrastOf(one: string, other: string): number {
  const [light, dark] = [luminanceOf(one), luminanceOf(other)].sort((a, b) => b - a) as [number, number];
  return (light + 0.05) / (dark + 0.05);
}

/** Relative luminance, from 0 to 1 (WCAG 2.2, after sRGB, IEC 61966-2-1). */
function luminanceOf(colour: string): number {
  const [r, g, b] = [1, 3, 5].map((at) => {
    const part = parseInt(colour.slice(at, at + 2), 16) / 255;
    return part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4;
  }) as [number, number, number];
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

/** Why colours cannot be used together; null: they can. */
export function coloursFault({ ink, paper, accent }: EmbedColours): string | null {
  if (![ink, paper, accent].every((colour) => COLOUR.test(colour))) return 'A colour is written as #rrggbb.';
  if (contrastOf(ink, paper) < LEAST_CONTRAST)
    return 'The text cannot be read on that paper: choose colours further apart.';
  if (contrastOf(accent, paper) < LEAST_CONTRAST)
    return 'What is pressed cannot be read on that paper: choose colours further apart.';
  return null;
}

const FOR_HTML: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' };
const forHtml = (text: string): string => text.replace(/[&<>"]/g, (c) => FOR_HTML[c] as string);

/** What a page says of its height, to the page that it is shown in. */
export const HEIGHT_MESSAGE = 'intake-height';

/**
 * What is put into a page so that an intake is shown there. It grows with what it shows: its heights are only taken from
 * it, and by its origin.
 * @param link of the intake
 */
export function embedSnippet(link: string, title: string): string {
  const [origin] = /^https?:\/\/[^/]+/.exec(link) ?? [''];
  const src = `${link}/embed`;
  return `<iframe src="${forHtml(src)}" title="${forHtml(title)}" style="width: 100%; height: 30rem; border: 0"></iframe>
<script>
  addEventListener('message', ({ origin, source, data }) => {
    if (origin !== ${JSON.stringify(origin)} || data?.kind !== '${HEIGHT_MESSAGE}') return;
    for (const frame of document.querySelectorAll('iframe'))
      if (frame.contentWindow === source) frame.style.height = Math.min(20000, Math.max(200, Number(data.px) || 0)) + 'px';
  });
</script>
`;
}
