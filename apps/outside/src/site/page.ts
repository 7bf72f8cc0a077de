import { escape } from '../page.js';

const STYLE = `body{font:17px/1.6 Georgia,serif;margin:0;color:#20303a;background:#f4f1ea}
header{background:#20303a;color:#f4f1ea;padding:1.4rem 2rem}header nav{display:flex;gap:1.4rem;font-size:.9rem}
main{max-width:46rem;margin:0 auto;padding:1.5rem}form{margin-top:2rem;padding-top:1rem;border-top:1px solid #cfc8b8;font:14px/1.5 system-ui,sans-serif}
textarea{width:100%;box-sizing:border-box;font:13px monospace}`;

/**
 * A page of the office's own, with what was put into it.
 * @param office where its public name leads in this browser, which no name server of the world's is asked by
 */
export function sitePage(snippet: string, office: { name: string; at: string | null }): string {
  const shown = office.at === null ? snippet : snippet.replaceAll(office.name, office.at);
  const nothing =
    '<p>Nothing is put into this page yet. Allow <code>this page</code> in an intake, and paste its snippet below.</p>';
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Saltmarsh Survey</title><style>${STYLE}</style></head><body>
<header><strong>Saltmarsh Survey</strong><nav><span>Land and measured surveys</span><span>Contact</span></nav></header>
<main><h1>Send us your files</h1>
${snippet === '' ? nothing : shown}
<form method="post" action="/site"><label for="snippet">What is put into this page (a stand-in for the office's own web site)</label>
<textarea id="snippet" name="snippet" rows="6">${escape(snippet)}</textarea><button>Put it in</button></form></main></body></html>`;
}
