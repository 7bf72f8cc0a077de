import type { CaughtMail } from './state.js';

const escape = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

const STYLE = `body{font:16px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:60rem;padding:0 1rem;color:#1c2b33;background:#fbf9f4}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.4rem .6rem;border-bottom:1px solid #dcd5c6;vertical-align:top}
pre{white-space:pre-wrap;border:1px solid #dcd5c6;padding:1rem;background:#fff}a{color:#0e5a60}`;

function page(title: string, body: string): string {
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${escape(title)}</title><style>${STYLE}</style></head><body><main>${body}</main></body></html>`;
}

export function listPage(mails: readonly CaughtMail[]): string {
  const rows = mails.map((m) => `<tr><td>${escape(m.receivedAt.slice(0, 19).replace('T', ' '))}</td><td>${escape(m.to.join(', '))}</td><td><a href="/mail/${m.id}">${escape(m.subject || '(no subject)')}</a></td></tr>`).join('');
  const table = mails.length ? `<table><thead><tr><th>Received (UTC)</th><th>To</th><th>Subject</th></tr></thead><tbody>${rows}</tbody></table>` : '<p>No mail has arrived yet. Change a password in the product: a notice is sent.</p>';
  return page('Outside world: mail', `<h1>Outside world</h1><p>Simulated services for demo and tests. Mail that the product sends ends here.</p><h2>Mail</h2>${table}`);
}

export function mailPage(mail: CaughtMail): string {
  return page(mail.subject, `<p><a href="/">All mail</a></p><h1>${escape(mail.subject)}</h1><p>From ${escape(mail.from)}<br>To ${escape(mail.to.join(', '))}</p><pre>${escape(mail.text)}</pre>`);
}
