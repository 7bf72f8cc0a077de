import type { CodeAsked } from '@quay/contract';
import type { Speech } from '@quay/core';
import { html, type Html } from '../platform/html.js';

// What the pages without script of shares and intakes are made of.

interface PlainFrame {
  speech: Speech;
  title: string;
  /** From the page to the root of the office. */
  up: string;
  styles: readonly string[];
  body: Html;
}

export function plainFrame({ speech, title, up, styles, body }: PlainFrame): string {
  const links = styles.map((href) => html`<link rel="stylesheet" href="${up + href}" />`);
  return html`<!doctype html>
    <html lang="${speech.language}">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <meta name="robots" content="noindex" />
        <title>${title}</title>
        ${links}
      </head>
      <body>
        <main id="page">${body}</main>
      </body>
    </html>`.text;
}

interface PlainProof {
  needsPassword: boolean;
  needsCode: boolean;
  takesNumbers: boolean;
  /** A code that was asked for. */
  sent: CodeAsked | null;
  /** The press that lets in, and what is said below it. */
  press: string;
  below?: Html | null;
}

/** The password, and a code where one is asked for: sent first, then typed. */
export function proofForm({ say }: Speech, proof: PlainProof): Html {
  const { needsPassword, needsCode, takesNumbers, sent, press, below = null } = proof;
  const password = needsPassword
    ? html`<label for="password">${say('password')}</label>
        <div class="reveal"><input id="password" name="password" type="password" autocomplete="off" required /></div>`
    : null;
  if (needsCode && !sent)
    return html`<form method="post">
      <p>${say(takesNumbers ? 'code.why-number' : 'code.why')}</p>
      ${password}<label for="address">${say(takesNumbers ? 'code.address-number' : 'code.address')}</label>
      <div class="reveal"><input id="address" name="address" autocomplete="email" required /></div>
      <button type="submit" class="main">${say('code.send')}</button>
    </form>`;
  const code = sent
    ? html`<p>${say('code.sent', { address: sent.address, minutes: sent.minutes })}</p>
        <input type="hidden" name="address" value="${sent.address}" />
        <input type="hidden" name="ticket" value="${sent.ticket}" />
        <label for="code">${say('code.typed')}</label>
        <div class="reveal">
          <input id="code" name="code" inputmode="numeric" autocomplete="one-time-code" maxlength="7" required />
        </div>`
    : null;
  return html`<form method="post">
    ${code}${password}<button type="submit" class="main">${press}</button>${below}
  </form>`;
}

/** What is typed into a page without script. */
export type PlainForm = Partial<Record<'password' | 'address' | 'code' | 'ticket', unknown>>;

/** Fields that are left empty are not said. */
export const proofIn = (typed: PlainForm = {}): Record<string, unknown> =>
  Object.fromEntries(
    (['address', 'code', 'ticket'] as const).filter((name) => typed[name]).map((name) => [name, typed[name]]),
  );
