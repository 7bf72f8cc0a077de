import { escape, page } from '../page.js';
import type { CaughtMail } from './state.js';

export function listPage(mails: readonly CaughtMail[]): string {
  const rows = mails
    .map(
      (m) =>
        `<tr><td>${escape(m.receivedAt.slice(0, 19).replace('T', ' '))}</td><td>${escape(m.to.join(', '))}</td><td><a href="/mail/${m.id}">${escape(m.subject || '(no subject)')}</a></td></tr>`,
    )
    .join('');
  const table = mails.length
    ? `<table><thead><tr><th>Received (UTC)</th><th>To</th><th>Subject</th></tr></thead><tbody>${rows}</tbody></table>`
    : '<p>No mail has arrived yet. Change a password in the product: a notice is sent.</p>';
  return page(
    'Outside world: mail',
    `<p><a href="/">Outside world</a></p><h1>Mail</h1><p>Mail that the product sends ends here.</p>${table}`,
  );
}

export function mailPage(mail: CaughtMail): string {
  return page(
    mail.subject,
    `<p><a href="/mail">All mail</a></p><h1>${escape(mail.subject)}</h1><p>From ${escape(mail.from)}<br>To ${escape(mail.to.join(', '))}</p><pre>${escape(mail.text)}</pre>`,
  );
}
