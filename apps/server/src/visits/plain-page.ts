import type { CodeAsked, ProblemBody, VisitorContents, VisitorDoor, VisitorFile } from '@quay/contract';
import type { Speech } from '@quay/core';
import { html, type Html } from '../platform/html.js';
import { plainFrame, proofForm } from './plain-parts.js';

// The visitor's page for browsers without script: the door, the password, the list, the download.

interface Shown {
  speech: Speech;
  door: VisitorDoor | null;
  problem: Partial<ProblemBody> | null;
  /** A code that was asked for. */
  sent: CodeAsked | null;
  /** From the page to the root of the office. */
  up: string;
  styles: readonly string[];
}

/** A problem in the visitor's words, or in the server's where there are none. */
export const problemWords = (speech: Speech, { code, detail = '' }: Partial<ProblemBody>): string =>
  speech.has(`problem.${code}`) ? speech.say(`problem.${code}`) : detail;

export function plainPage(shown: Shown): string {
  const { speech, door, problem, sent, up, styles } = shown;
  const title = door ? `${door.title}, ${door.office}` : speech.say('missing.title');
  const body = door ? doorPart(speech, door, problem, sent) : refusal(speech, problem);
  return plainFrame({ speech, title, up, styles, body });
}

function refusal(speech: Speech, problem: Partial<ProblemBody> | null): Html {
  const title = speech.say(problem?.code === 'share.not-found' ? 'missing.title' : 'failed.title');
  return html`<section class="refusal">
    <h1>${title}</h1>
    <p>${problem ? problemWords(speech, problem) : ''}</p>
  </section>`;
}

function doorPart(
  speech: Speech,
  door: VisitorDoor,
  problem: Partial<ProblemBody> | null,
  sent: CodeAsked | null,
): Html {
  const { say } = speech;
  const moment = (at: string) => speech.moment(Date.parse(at), Date.parse(door.now), door.zone);
  const until = door.closesAt ? say('until', { moment: moment(door.closesAt) }) : say('until.closed');
  const fault = problem ? html`<p class="fault" role="alert">${problemWords(speech, problem)}</p>` : null;
  const inside = () => {
    if (door.contents) return contentsPart(speech, door.contents);
    return door.state === 'open' ? openingPart(speech, door, sent) : statePart(speech, door, door.state, moment);
  };
  return html`<header>
      <p class="from">${`${door.sender}, ${door.office}`}</p>
      <h1>${door.title}</h1>
      ${
        door.message ? html`<p class="message">${door.message}</p>` : null
      }${door.state === 'open' ? html`<p class="quiet">${until}</p>` : null}${
        door.you ? html`<p class="quiet">${say('for', { who: door.you })}</p>` : null
      }
    </header>
    ${fault}${inside()}${door.officeWords ? html`<footer>${door.officeWords}</footer>` : null}`;
}

function statePart(
  { say }: Speech,
  { sender, office, barred, opensAt, closesAt }: VisitorDoor,
  state: Exclude<VisitorDoor['state'], 'open'>,
  moment: (at: string) => string,
): Html {
  const at = state === 'scheduled' ? opensAt : closesAt;
  const key = state === 'closed' && barred ? 'barred' : state;
  return html`<section class="refusal">
    <h2>${say(`${state}.title`)}</h2>
    <p>${say(key, { sender, office, moment: at ? moment(at) : '' })}</p>
  </section>`;
}

/** The password, and a code where one is asked for: sent first, then typed. Whoever signs in does so elsewhere. */
function openingPart(speech: Speech, door: VisitorDoor, sent: CodeAsked | null): Html {
  const { say } = speech;
  const { needsPassword, needsCode, takesNumbers, needsSignIn, visitsLeft, sender, office } = door;
  if (needsSignIn) return html`<p>${say('sign-in', { sender, office })}</p>`;
  const left = visitsLeft === 1 ? say('visits.last') : say('visits.left', { count: visitsLeft ?? 0 });
  const below = visitsLeft === null ? null : html`<p class="quiet">${left}</p>`;
  return proofForm(speech, { needsPassword, needsCode, takesNumbers, sent, press: say('open'), below });
}

function contentsPart({ say, size }: Speech, contents: VisitorContents): Html {
  const { files, archiveBytes, totalBytes, level, markedFor, notAll, copies } = contents;
  const count = say('files', { count: files.length });
  const words = markedFor ? say(level === 'view' ? 'look.only' : 'marked', { who: markedFor }) : null;
  const isReady = archiveBytes !== null && files.length > 1 && (!copies || copies.made === copies.of);
  const row = ({ id, path, sizeBytes, handing }: VisitorFile) =>
    html`<li>
      ${
        handing === 'withheld' ? html`<span>${path}</span>` : html`<a href="${`files/${id}`}" download>${path}</a>`
      }<span class="size">${size(sizeBytes)}</span>
    </li>`;
  return html`<section>
    ${words ? html`<p class="quiet">${words}</p>` : null}
    <div class="all">
      <h2>${say('files.size', { files: count, size: size(totalBytes) })}</h2>
      ${isReady ? html`<a class="main" href="all.zip" download>${say('all', { size: size(archiveBytes) })}</a>` : null}
    </div>
    ${notAll ? html`<p class="quiet">${say('all.not')}</p>` : null}${
      files.length > 0
        ? html`<ul class="files">
            ${files.map(row)}
          </ul>`
        : html`<p class="quiet">${say('empty')}</p>`
    }
  </section>`;
}
