export const escape = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

const STYLE = `body{font:16px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:64rem;padding:0 1rem;color:#1c2b33;background:#fbf9f4}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.4rem .6rem;border-bottom:1px solid #dcd5c6;vertical-align:top}
pre{white-space:pre-wrap;border:1px solid #dcd5c6;padding:1rem;background:#fff}a{color:#0e5a60}
form.faults{display:flex;flex-wrap:wrap;gap:.4rem 1.2rem;align-items:center}form.faults button{font:inherit}code{font-size:.92em}`;

/** A page of the outside world: one look for all. */
export function page(title: string, body: string): string {
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${escape(title)}</title><style>${STYLE}</style></head><body><main>${body}</main></body></html>`;
}
