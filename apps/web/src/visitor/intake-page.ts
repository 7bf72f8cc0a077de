import type { CodeAsked, HandedFile, HandedIn, IntakeDoor, IntakeInside, ProblemBody } from '@quay/contract';
import type { Asked, IntakeAnswers } from '@quay/core';
import type { BringActions, Brought } from './bringing';
import { bringingPart, type Takes } from './bringing-part';
import { h, type Child } from './h';
import { faultOf, field, fields, moment } from './parts';
import { proofPart, signingIn, type ProofActions } from './proof-part';
import { filesOf, problemWords, say, size, speech } from './words';

export interface IntakeActions extends ProofActions {
  bringing: BringActions;
  signInUrl: string;
  /** Takes back what was not handed in yet. */
  takeBack: (id: string) => void;
  handIn: (answers: IntakeAnswers) => void;
  again: () => void;
  logoUrl: (version: string) => string;
  markUrl: string;
  receiptUrl: (path: string) => string;
  /** Of links that lead away from the page. */
  elsewhere: Record<string, string>;
}

export interface IntakeShown {
  door: IntakeDoor | null;
  problem: Partial<ProblemBody> | null;
  busy: boolean;
  /** Where a code was asked for. */
  code: CodeAsked | null;
  /** The server does not answer at the moment. */
  isAway: boolean;
  /** What was handed in just now. */
  done: HandedIn | null;
  /** What is wrong with answers, by their fields. */
  faults: Record<string, string>;
}

/** All of it is one place, whose name nobody needs. */
const HERE = [{ id: 'here', path: '' }];

/** What may be handed in, as the part of the page sees it that takes files. */
export function takesOf({ limits, files }: IntakeInside): Takes {
  const taken = files.reduce((sum, f) => sum + f.sizeBytes, 0);
  const takesPictures = limits.kinds?.includes('picture') ?? true;
  return { places: HERE, takesBytes: Math.max(0, limits.contributorBytes - taken), level: 'contribute', takesPictures };
}

/** What was drawn last, so that news that change nothing on the page do not touch it. */
let drawn = '';

/** Draws the page for what is known, if that differs from what is shown. Focus and what was typed stay where they are. */
export function drawIntake(
  page: HTMLElement,
  shown: IntakeShown,
  sending: readonly Brought[],
  actions: IntakeActions,
): void {
  const isBusy = sending.some((item) => item.state === 'sending' || item.state === 'waiting');
  // Of the moment only the day shows in words.
  const door = shown.door && { ...shown.door, now: shown.door.now.slice(0, 10) };
  const next = JSON.stringify([{ ...shown, door }, isBusy]);
  if (next === drawn) return;
  drawn = next;
  const focused = document.activeElement?.id;
  const away = shown.isAway ? [h('p', { class: 'away', role: 'status' }, say('away.lost'))] : [];
  const parts = shown.door
    ? doorParts(shown.door, shown, { sending, isBusy }, actions)
    : [unknown(shown.problem, actions)];
  page.replaceChildren(...away, ...parts);
  document.title = shown.door ? `${shown.door.title}, ${shown.door.office}` : say('intake.unknown');
  if (focused) document.getElementById(focused)?.focus();
}

function unknown(problem: Partial<ProblemBody> | null, actions: IntakeActions): HTMLElement {
  if (!problem) return h('p', { class: 'quiet' }, say('wait'));
  const isUnknown = problem.code === 'intake.not-found';
  return h(
    'section',
    { class: 'refusal' },
    h('h1', {}, say(isUnknown ? 'intake.unknown' : 'failed.title')),
    h('p', {}, isUnknown ? say('intake.unknown-why') : problemWords(problem)),
    isUnknown ? null : h('button', { type: 'button', onclick: actions.again }, say('again')),
  );
}

interface OnItsWay {
  sending: readonly Brought[];
  isBusy: boolean;
}

function doorParts(door: IntakeDoor, shown: IntakeShown, onItsWay: OnItsWay, actions: IntakeActions): HTMLElement[] {
  const { asker, office, closesAt, inside, now } = door;
  const mark = h('img', { src: actions.markUrl, alt: '', width: '22', height: '22' });
  const until = closesAt ? say('until', { moment: moment(closesAt, now) }) : say('until.closed');
  const head = h(
    'header',
    {},
    // Who it is from stands beside it in words.
    door.logo ? h('img', { class: 'logo', src: actions.logoUrl(door.logo), alt: '' }) : null,
    h('p', { class: 'from' }, door.logo ? null : mark, say('intake.from', { asker, office })),
    h('h1', {}, door.title),
    door.message ? h('p', { class: 'message' }, door.message) : null,
    door.state === 'open' ? h('p', { class: 'quiet' }, until) : null,
  );
  const parts = [head];
  if (shown.done) parts.push(donePart(shown.done, actions));
  if (inside && (door.state === 'open' || inside.finishBy))
    parts.push(handingPart(door, inside, shown, onItsWay, actions));
  else if (door.state === 'open') parts.push(entering(door, shown, actions));
  else parts.push(statePart(door, door.state));
  if (inside && inside.receipts.length > 0) parts.push(receiptsPart(door, inside.receipts, actions));
  return parts;
}

function statePart(
  { asker, opensAt, closesAt, now }: IntakeDoor,
  state: Exclude<IntakeDoor['state'], 'open'>,
): HTMLElement {
  const at = state === 'scheduled' ? opensAt : closesAt;
  const said = say(`intake.${state}`, { asker, moment: at ? moment(at, now) : '' });
  const title = say(state === 'broken' ? 'failed.title' : `${state}.title`);
  return h('section', { class: 'refusal', 'data-state': state }, h('h2', {}, title), h('p', {}, said));
}

function entering(door: IntakeDoor, shown: IntakeShown, actions: IntakeActions): HTMLElement {
  const { asker, office, wants } = door;
  if (wants === 'sign-in')
    return signingIn(say('intake.sign-in', { asker, office }), actions.signInUrl, actions.elsewhere);
  if (wants === 'not-meant') return h('section', { class: 'refusal' }, h('p', {}, say('intake.not-meant', { asker })));
  const words = { press: say('intake.enter'), busy: say('intake.entering') };
  return proofPart({ ...door, needsCode: wants === 'code' }, shown, words, actions);
}

function handingPart(
  door: IntakeDoor,
  inside: IntakeInside,
  shown: IntakeShown,
  { sending, isBusy }: OnItsWay,
  actions: IntakeActions,
): HTMLElement {
  const { limits, files, finishBy, follows } = inside;
  const kinds = limits.kinds?.map((kind) => say(`intake.kind.${kind}`));
  const list = new Intl.ListFormat(speech.language, { type: 'conjunction' });
  const ready = files.filter((f) => f.here);
  const begun = files.filter((f) => !f.here && !sending.some((s) => pathOf(s) === f.path));
  return h(
    'section',
    { class: 'handing' },
    follows === null ? null : h('p', { role: 'status' }, say('intake.follows', { number: follows })),
    finishBy ? h('p', { role: 'status' }, say('intake.finish', { moment: moment(finishBy, door.now) })) : null,
    h('p', { class: 'quiet' }, say('intake.limits', { files: filesOf(limits.files), size: size(limits.fileBytes) })),
    kinds ? h('p', { class: 'quiet' }, say('intake.kinds', { kinds: list.format(kinds) })) : null,
    bringingPart(takesOf(inside), sending, actions.bringing),
    files.length > 0 ? readyPart([...begun, ...ready], ready, actions) : null,
    files.length > 0 || isBusy ? answering(inside, shown, ready.length, isBusy || begun.length > 0, actions) : null,
  );
}

const pathOf = ({ path, name }: Brought): string => (path ? `${path}/${name}` : name);

/** What has arrived and is not handed in yet. */
function readyPart(files: readonly HandedFile[], ready: readonly HandedFile[], actions: IntakeActions): HTMLElement {
  const bytes = ready.reduce((sum, f) => sum + f.sizeBytes, 0);
  return h(
    'section',
    { class: 'handed' },
    h('h2', {}, say('intake.here', { files: filesOf(ready.length), size: size(bytes) })),
    h('ul', { class: 'files' }, ...files.map((file) => readyRow(file, actions))),
  );
}

function readyRow({ id, path, sizeBytes, arrivedBytes, here }: HandedFile, actions: IntakeActions): HTMLElement {
  const said = here ? size(sizeBytes) : say('intake.begun', { arrived: size(arrivedBytes), size: size(sizeBytes) });
  const back = { type: 'button', class: 'plain', 'aria-label': say('intake.take-back.it', { name: path }) };
  return h(
    'li',
    { 'data-here': String(here) },
    h('span', { class: 'name' }, h('bdi', {}, path)),
    h('span', { class: 'size' }, said),
    h('button', { ...back, onclick: () => actions.takeBack(id) }, say('intake.take-back')),
  );
}

/** What is asked, and the press that hands all in. */
function answering(
  { questions }: IntakeInside,
  shown: IntakeShown,
  ready: number,
  isOnItsWay: boolean,
  actions: IntakeActions,
): HTMLElement {
  const asked: [key: string, label: string, how: Asked, attributes: Record<string, string>][] = [
    ['name', say('intake.name'), questions.name, { autocomplete: 'name' }],
    ['mail', say('intake.mail'), questions.mail, { type: 'email', autocomplete: 'email' }],
    ['firm', say('intake.firm'), questions.firm, { autocomplete: 'organization' }],
    ...questions.own.map(({ id, words, must }): [string, string, Asked, Record<string, string>] => [
      `own.${id}`,
      words,
      must ? 'must' : 'may',
      {},
    ]),
  ];
  const said = (key: string) => fields.get(`answer-${key}`)?.value ?? '';
  const handIn = (e: Event) => {
    e.preventDefault();
    const own = Object.fromEntries(questions.own.map((q) => [q.id, said(`own.${q.id}`)]));
    actions.handIn({ name: said('name'), mail: said('mail'), firm: said('firm'), own });
  };
  const isDone = ready > 0 && !isOnItsWay;
  return h(
    'form',
    { class: 'answers', onsubmit: handIn, novalidate: '' },
    ...asked
      .filter(([, , how]) => how !== 'no')
      .flatMap(([key, label, how, attributes]) => answerField(key, { label, how, attributes }, shown.faults[key])),
    Object.keys(shown.faults).length === 0 ? faultOf(shown) : null,
    isDone ? null : h('p', { class: 'quiet' }, say('intake.wait')),
    h(
      'button',
      { type: 'submit', class: 'main', ...((!isDone || shown.busy) && { disabled: '' }) },
      shown.busy ? say('intake.handing-in') : say('intake.hand-in', { files: filesOf(ready) }),
    ),
  );
}

function answerField(
  key: string,
  { label, how, attributes }: { label: string; how: Asked; attributes: Record<string, string> },
  fault: string | undefined,
): Child[] {
  const id = `answer-${key}`;
  const input = field(id, { type: 'text', maxlength: '500', ...attributes });
  input.required = how === 'must';
  input.setAttribute('aria-invalid', String(fault !== undefined));
  return [
    h('label', { for: id }, how === 'may' ? say('intake.optional', { label }) : label),
    h('div', { class: 'reveal' }, input),
    key === 'mail' ? h('p', { class: 'quiet' }, say('intake.mail.why')) : null,
    fault === undefined ? null : h('p', { class: 'fault', role: 'alert' }, fault),
  ];
}

function donePart({ number, path }: HandedIn, actions: IntakeActions): HTMLElement {
  return h(
    'section',
    { class: 'done', role: 'status' },
    h('p', {}, h('strong', {}, say('intake.done', { number }))),
    h(
      'p',
      {},
      h(
        'a',
        { class: 'main', href: actions.receiptUrl(path), ...actions.elsewhere },
        say('intake.receipt', { number }),
      ),
    ),
    h('p', { class: 'quiet' }, say('intake.again')),
  );
}

function receiptsPart({ now }: IntakeDoor, receipts: readonly HandedIn[], actions: IntakeActions): HTMLElement {
  const line = ({ files, bytes, at }: HandedIn) =>
    say('intake.receipt.line', { files: filesOf(files), size: size(bytes), moment: moment(at, now) });
  return h(
    'section',
    { class: 'handed' },
    h('h2', {}, say('intake.receipts')),
    h(
      'ul',
      { class: 'files' },
      ...receipts.map((receipt) =>
        h(
          'li',
          {},
          h('a', { href: actions.receiptUrl(receipt.path), ...actions.elsewhere }, receipt.number),
          h('span', { class: 'size' }, `${line(receipt)}. ${say(`receipt.${receipt.state}`)}`),
          ...receipt.askedBack.map(({ words, at, by }) =>
            h('p', { class: 'message' }, `${say('receipt.asked', { asker: by, moment: moment(at, now) })} ${words}`),
          ),
        ),
      ),
    ),
  );
}
