import type { CodeAsked, HandedFile, IntakeDoor, IntakeInside, ProblemBody } from '@quay/contract';
import type { Asked, IntakeAnswers, Speech } from '@quay/core';
import { html, type Html } from '../platform/html.js';
import { problemWords } from '../visits/plain-page.js';
import { plainFrame, proofForm } from '../visits/plain-parts.js';

// The page of an intake for browsers without script: one file at a time.

interface Shown {
  speech: Speech;
  /** In which times are told. */
  zone: string;
  door: IntakeDoor | null;
  problem: Partial<ProblemBody> | null;
  /** A code that was asked for. */
  sent: CodeAsked | null;
  /** What was typed and not taken. */
  answers: IntakeAnswers | null;
  up: string;
  styles: readonly string[];
}

export function plainIntakePage(shown: Shown): string {
  const { speech, door, problem, up, styles } = shown;
  const title = door ? `${door.title}, ${door.office}` : speech.say('intake.unknown');
  const body = door
    ? doorPart(shown, door)
    : html`<section class="refusal">
        <h1>${title}</h1>
        <p>${problem ? problemWords(speech, problem) : ''}</p>
      </section>`;
  return plainFrame({ speech, title, up, styles, body });
}

function doorPart(shown: Shown, door: IntakeDoor): Html {
  const { speech, problem } = shown;
  const { asker, office, title, message, state, closesAt, inside } = door;
  const until = closesAt
    ? speech.say('until', { moment: momentOf(shown, door, closesAt) })
    : speech.say('until.closed');
  const fault = problem ? html`<p class="fault" role="alert">${problemWords(speech, problem)}</p>` : null;
  return html`<header>
      <p class="from">${`${asker}, ${office}`}</p>
      <h1>${title}</h1>
      ${message ? html`<p class="message">${message}</p>` : null}${
        state === 'open' ? html`<p class="quiet">${until}</p>` : null
      }
    </header>
    ${fault}${inside && (state === 'open' || inside.finishBy) ? insidePart(shown, door, inside) : outsidePart(shown, door)}`;
}

const momentOf = ({ speech, zone }: Shown, { now }: IntakeDoor, at: string): string =>
  speech.moment(Date.parse(at), Date.parse(now), zone);

function outsidePart(shown: Shown, door: IntakeDoor): Html {
  const { speech, sent } = shown;
  const { say } = speech;
  const { state, asker, office, wants, needsPassword, takesNumbers, opensAt, closesAt } = door;
  if (state !== 'open') {
    const at = state === 'scheduled' ? opensAt : closesAt;
    const words = say(`intake.${state}`, { asker, moment: at ? momentOf(shown, door, at) : '' });
    return html`<section class="refusal"><p>${words}</p></section>`;
  }
  if (wants === 'sign-in') return html`<p>${say('intake.sign-in', { asker, office })}</p>`;
  if (wants === 'not-meant') return html`<p>${say('intake.not-meant', { asker })}</p>`;
  return proofForm(speech, {
    ...{ needsPassword, takesNumbers, needsCode: wants === 'code', sent, press: say('intake.enter') },
  });
}

function insidePart(shown: Shown, door: IntakeDoor, inside: IntakeInside): Html {
  const { speech } = shown;
  const { say, size } = speech;
  const { limits, files, finishBy, receipts } = inside;
  const ready = files.filter((f) => f.here);
  const bytes = ready.reduce((sum, f) => sum + f.sizeBytes, 0);
  const count = say('files', { count: ready.length });
  const allowed = say('intake.limits', { files: say('files', { count: limits.files }), size: size(limits.fileBytes) });
  const kinds = limits.kinds?.map((kind) => say(`intake.kind.${kind}`));
  const list = new Intl.ListFormat(speech.language, { type: 'conjunction' });
  return html`${finishBy ? html`<p>${say('intake.finish', { moment: momentOf(shown, door, finishBy) })}</p>` : null}
    <p class="quiet">${allowed}</p>
    ${kinds ? html`<p class="quiet">${say('intake.kinds', { kinds: list.format(kinds) })}</p>` : null}
    <form method="post" action="plain/files" enctype="multipart/form-data">
      <label for="file">${say('intake.one')}</label>
      <p><input id="file" name="file" type="file" required /></p>
      <button type="submit" class="main">${say('intake.one.send')}</button>
    </form>
    ${
      files.length > 0
        ? html`<section class="handed">
            <h2>${say('intake.here', { files: count, size: size(bytes) })}</h2>
            <ul class="files">
              ${files.map((file) => fileRow(speech, file))}
            </ul>
          </section>`
        : null
    }${ready.length > 0 ? answersForm(shown, inside, count) : null}${
      receipts.length > 0
        ? html`<section class="handed">
            <h2>${say('intake.receipts')}</h2>
            <ul class="files">
              ${receipts.map(
                ({ path, number, state }) =>
                  html`<li><a href="${path}">${number}</a><span class="size">${say(`receipt.${state}`)}</span></li>`,
              )}
            </ul>
          </section>`
        : null
    }`;
}

function fileRow({ say, size }: Speech, { id, path, sizeBytes, arrivedBytes, here }: HandedFile): Html {
  const said = here ? size(sizeBytes) : say('intake.begun', { arrived: size(arrivedBytes), size: size(sizeBytes) });
  return html`<li>
    <span class="name"><bdi>${path}</bdi></span
    ><span class="size">${said}</span>
    <form class="inline" method="post" action="plain/take-back">
      <input type="hidden" name="id" value="${id}" /><button
        type="submit"
        class="plain"
        aria-label="${say('intake.take-back.it', { name: path })}"
      >
        ${say('intake.take-back')}
      </button>
    </form>
  </li>`;
}

function answersForm({ speech: { say }, answers }: Shown, { questions }: IntakeInside, files: string): Html {
  const said = answers ?? { name: '', mail: '', firm: '', own: {} };
  const asked: [name: string, label: string, how: Asked, value: string][] = [
    ['name', say('intake.name'), questions.name, said.name],
    ['mail', say('intake.mail'), questions.mail, said.mail],
    ['firm', say('intake.firm'), questions.firm, said.firm],
    ...questions.own.map(({ id, words, must }): [string, string, Asked, string] => [
      ...([`own.${id}`, words, must ? 'must' : 'may', said.own[id] ?? ''] as const),
    ]),
  ];
  const field = ([name, label, how, value]: (typeof asked)[number]) =>
    html`<label for="${name}">${how === 'may' ? say('intake.optional', { label }) : label}</label>
      <div class="reveal">
        <input id="${name}" name="${name}" maxlength="500" value="${value}" ${how === 'must' ? html`required` : null} />
      </div>`;
  return html`<form class="answers" method="post" action="plain/hand-in">
    ${asked.filter(([, , how]) => how !== 'no').map(field)}
    <button type="submit" class="main">${say('intake.hand-in', { files })}</button>
  </form>`;
}
