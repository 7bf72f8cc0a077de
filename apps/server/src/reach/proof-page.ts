import type { IncomingMessage, ServerResponse } from 'node:http';
import { clientAddress } from '../platform/client-address.js';
import type { ProofsService } from './proofs.service.js';

const STYLE =
  'body{font:18px/1.5 system-ui,sans-serif;margin:3rem auto;max-width:28rem;padding:0 1rem;color:#1c2b33;background:#fbf9f4}h1{font-size:1.4rem}.mono{font-family:ui-monospace,monospace}';
const HEADERS = {
  'Content-Type': 'text/html; charset=utf-8',
  'Cache-Control': 'no-store',
  'Content-Security-Policy': "default-src 'none'; style-src 'unsafe-inline'",
  'X-Content-Type-Options': 'nosniff',
  'Referrer-Policy': 'no-referrer',
  'X-Frame-Options': 'DENY',
};

/**
 * Answers a nonce with the proof that the request came through to this very server, and says to a person what that
 * proves. A nonce that is unknown, old or was used before gets the same answer, 410.
 */
export async function sendProof(
  proofs: ProofsService,
  nonce: string,
  req: IncomingMessage,
  res: ServerResponse,
  protocol: string,
): Promise<void> {
  const from = clientAddress(req);
  const taken = await proofs.take(nonce, { from, protocol, host: req.headers.host ?? '' });
  const page = (title: string, body: string) =>
    `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title><style>${STYLE}</style></head><body><main><h1>${title}</h1>${body}</main></body></html>`;
  if (!taken)
    return void res
      .writeHead(410, HEADERS)
      .end(
        page(
          'This proof is used up',
          '<p>Each code proves the way in once, within a day. Show a new one on the page of checks.</p>',
        ),
      );
  const body =
    taken.purpose === 'check'
      ? `<p class="mono">quay-proof ${taken.proof}</p>`
      : `<p>You came all the way in, by ${protocol}, from <span class="mono">${from.replace(/[^0-9a-f.:]/gi, '')}</span>.</p><p>Whoever showed you the code sees it too. If this telephone was off the office's network, the way in works.</p>`;
  res.writeHead(200, HEADERS).end(page('The way in works', body));
}
