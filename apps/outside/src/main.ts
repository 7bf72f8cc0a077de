import { createServer } from 'node:http';
import { listPage, mailPage } from './mail/page.js';
import { mailServer } from './mail/server.js';
import { Mailbox } from './mail/state.js';

const HOST = '127.0.0.1';
const mailbox = new Mailbox();

const web = createServer((req, res) => {
  const path = (req.url ?? '/').split('?')[0] ?? '/';
  const single = /^\/mail\/(\d+)$/.exec(path);
  const mail = single ? mailbox.get(Number(single[1])) : null;
  const answer = (status: number, type: string, body: string) => res.writeHead(status, { 'Content-Type': type, 'Content-Security-Policy': "default-src 'none'; style-src 'unsafe-inline'" }).end(body);
  if (path === '/') answer(200, 'text/html; charset=utf-8', listPage(mailbox.list()));
  else if (path === '/api/mail') answer(200, 'application/json', JSON.stringify(mailbox.list()));
  else if (mail) answer(200, 'text/html; charset=utf-8', mailPage(mail));
  else answer(404, 'text/plain', 'There is nothing here.');
});

const smtp = mailServer(mailbox);
smtp.on('error', () => undefined);

function fail(error: Error): void {
  process.send?.({ failed: error.message });
  process.exit(1);
}

web.once('error', fail);
smtp.server.once('error', fail);
smtp.listen(Number(process.env['OUTSIDE_SMTP_PORT'] ?? 4182), HOST, () => {
  web.listen(Number(process.env['OUTSIDE_WEB_PORT'] ?? 4183), HOST, () => process.send?.({ ready: true }));
});
process.on('disconnect', () => process.exit(0));
process.on('SIGTERM', () => process.exit(0));
