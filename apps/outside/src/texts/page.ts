import { escape, page } from '../page.js';
import type { CaughtText } from './state.js';

export function textsPage(texts: readonly CaughtText[]): string {
  const rows = texts
    .map(
      (t) =>
        `<tr><td>${escape(t.receivedAt.slice(0, 19).replace('T', ' '))}</td><td>${escape(t.to)}</td><td>${escape(t.text)}</td></tr>`,
    )
    .join('');
  const table = texts.length
    ? `<table><thead><tr><th>Received (UTC)</th><th>To</th><th>Message</th></tr></thead><tbody>${rows}</tbody></table>`
    : '<p>No text message has arrived yet. Open a share that is for a telephone number: a code is sent.</p>';
  return page(
    'Outside world: text messages',
    `<p><a href="/">Outside world</a></p><h1>Text messages</h1><p>Text messages that the product sends end here.</p>${table}`,
  );
}
