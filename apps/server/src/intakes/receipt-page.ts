import type { Speech } from '@quay/core';
import { html, type Html } from '../platform/html.js';
import type { ReceiptShown } from './handing-in.service.js';

/** Files that a receipt shows; the checksums name all. */
const MOST_SHOWN = 1000;

interface Page {
  speech: Speech;
  shown: ReceiptShown;
  /** The secret of its link. */
  key: string;
  /** In which the time is told. */
  zone: string;
  now: number;
  /** From the page to the root of the office. */
  up: string;
  styles: readonly string[];
}

/** A receipt, to be looked at, printed and kept; it works without script. */
export function receiptPage({ speech, shown, key, zone, now, up, styles }: Page): string {
  const { say } = speech;
  const { receipt, deposit, hash } = shown;
  const links = styles.map((href) => html`<link rel="stylesheet" href="${up + href}" />`);
  const title = say('receipt.title', { number: receipt.number });
  return html`<!doctype html>
    <html lang="${speech.language}">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <meta name="robots" content="noindex" />
        <title>${title}, ${receipt.office}</title>
        <link rel="icon" href="${up}mark.svg" type="image/svg+xml" />
        ${links}
      </head>
      <body>
        <main id="page" class="receipt">
          <header>
            <p class="from">${receipt.office}</p>
            <h1>${title}</h1>
            <p>${receipt.title}</p>
          </header>
          <p>
            ${say('receipt.said', {
              who: receipt.name,
              files: say('files', { count: deposit.files }),
              size: speech.size(deposit.bytes),
              moment: speech.moment(Date.parse(receipt.at), now, zone),
            })}
          </p>
          <p><strong>${say(`receipt.${deposit.state === 'arriving' ? 'waiting' : deposit.state}`)}</strong></p>
          ${deposit.reason === '' ? null : html`<p class="message">${deposit.reason}</p>`}
          ${askedPart(speech, shown, { key, now, zone })} ${filesTable(speech, shown)}
          <p class="onward"><a class="main" href="../#follows=${key}">${say('receipt.more')}</a></p>
          <p class="quiet"><a href="${key}/SHA256SUMS" download="">${say('receipt.checksums')}</a></p>
          <p class="quiet">${say('receipt.hash')} <code>${hash}</code></p>
        </main>
      </body>
    </html>`.text;
}

/** What its contributor was asked about it. */
function askedPart(
  { say, moment }: Speech,
  { askedBack }: ReceiptShown,
  { key, now, zone }: Pick<Page, 'key' | 'now' | 'zone'>,
): Html[] {
  return askedBack.map(
    ({ words, at, by }) =>
      html`<section class="asked">
        <h2>${say('receipt.asked', { asker: by, moment: moment(at.getTime(), now, zone) })}</h2>
        <p class="message">${words}</p>
        <p class="onward"><a class="main" href="../#follows=${key}">${say('receipt.answer')}</a></p>
      </section>`,
  );
}

function filesTable({ say, size }: Speech, { receipt: { files } }: ReceiptShown): Html {
  const rows = files.slice(0, MOST_SHOWN).map(
    ({ path, sizeBytes, sha256 }) =>
      html`<li>
        <span class="name"><bdi>${path}</bdi></span>
        <span class="size">${size(sizeBytes)}</span>
        <code>${sha256}</code>
      </li>`,
  );
  const more = files.length - rows.length;
  return html`<ul class="files handed">
      ${rows}
    </ul>
    ${more > 0 ? html`<p class="quiet">${say('receipt.rest', { files: say('files', { count: more }) })}</p>` : null}`;
}
