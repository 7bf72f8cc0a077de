import type { ArrivingFile, CodeAsked, CopiesMade, ProblemBody, VisitorContents, VisitorDoor } from '@quay/contract';
import type { ShareState } from '@quay/core';
import type { BringActions, Brought } from './bringing';
import { bringingPart } from './bringing-part';
import { filesPart } from './files-part';
import type { View } from './walk';
import { h, type Child } from './h';
import { faultOf, field, fields, moment } from './parts';
import { proofPart, signingIn, type ProofActions } from './proof-part';
import { exactBytes, filesOf, problemWords, say, size } from './words';

export interface Actions extends ProofActions {
  again: () => void;
  fileUrl: (id: string) => string;
  /** Looks at a file without taking it. */
  look: (id: string) => void;
  /** Of files that are named; of none: of everything. */
  archiveUrl: (ids: readonly string[]) => string;
  checksumsUrl: string;
  find: (text: string) => void;
  showAs: (pictures: boolean) => void;
  /** Looks into a folder, by its path. */
  walk: (folder: string) => void;
  choose: (id: string, on: boolean) => void;
  chooseNone: () => void;
  /** Has what is given marked made, then takes all as one. */
  takeAll: (ids: readonly string[]) => void;
  /** Takes all as one as soon as nothing is arriving any more; or not, after all. */
  wait: (waits: boolean) => void;
  logoUrl: (version: string) => string;
  /** The product's mark, for an office without a logo. */
  markUrl: string;
  signInUrl: string;
  bringing: BringActions;
  /** What this visitor brings, as it stands. */
  brought: () => readonly Brought[];
  takeBack: (id: string) => void;
}

interface Shown {
  door: VisitorDoor | null;
  problem: Partial<ProblemBody> | null;
  busy: boolean;
  isAway: boolean;
  code: CodeAsked | null;
  /** All is taken when the last file has arrived. */
  waits: boolean;
  making: CopiesMade | null;
  view: View;
}

/** What was drawn last, so that news that change nothing on the page do not touch it. */
let drawn = '';
/**
 * Draws the page for what is known, if that differs from what is shown. Focus and what was typed stay where they are.
 */
export function draw(page: HTMLElement, shown: Shown, actions: Actions): void {
  // Of the moment only the day shows in words.
  const next = JSON.stringify([
    shown.door && { ...shown.door, now: shown.door.now.slice(0, 10) },
    shown.problem,
    shown.busy,
    shown.isAway,
    shown.code,
    shown.waits,
    shown.making,
    shown.view,
  ]);
  if (next === drawn) return;
  drawn = next;
  const focused = document.activeElement?.id;
  const away = shown.isAway ? [h('p', { class: 'away', role: 'status' }, say('away.lost'))] : [];
  const parts = shown.door ? doorParts(shown.door, shown, actions) : [refusal(shown.problem, actions)];
  page.replaceChildren(...away, ...parts);
  document.title = shown.door ? `${shown.door.title}, ${shown.door.office}` : say('missing.title');
  if (focused) document.getElementById(focused)?.focus();
}

function refusal(problem: Partial<ProblemBody> | null, actions: Actions): HTMLElement {
  if (!problem) return h('p', { class: 'quiet' }, say('wait'));
  return h(
    'section',
    { class: 'refusal' },
    h('h1', {}, say(problem.code === 'share.not-found' ? 'missing.title' : 'failed.title')),
    h('p', {}, problemWords(problem)),
    problem.code === 'share.not-found' ? null : h('button', { type: 'button', onclick: actions.again }, say('again')),
  );
}

function doorParts(door: VisitorDoor, shown: Shown, actions: Actions): Node[] {
  const head = h(
    'header',
    {},
    // Who it is from stands beside it in words.
    door.logo ? h('img', { class: 'logo', src: actions.logoUrl(door.logo), alt: '' }) : null,
    h(
      'p',
      { class: 'from' },
      door.logo ? null : h('img', { src: actions.markUrl, alt: '', width: '22', height: '22' }),
      `${door.sender}, ${door.office}`,
    ),
    h('h1', {}, door.title),
    door.message ? h('p', { class: 'message' }, door.message) : null,
    windowLine(door),
    door.you ? h('p', { class: 'quiet' }, say('for', { who: door.you })) : null,
  );
  const foot = door.officeWords ? [h('footer', {}, door.officeWords)] : [];
  return [head, inside(door, shown, actions), ...foot];
}

function inside(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  if (door.contents) return contentsPart(door.contents, shown, actions);
  return door.state === 'open' ? opening(door, shown, actions) : stateRefusal(door.state, door);
}

function windowLine(door: VisitorDoor): Child {
  if (door.state !== 'open') return null;
  return h(
    'p',
    { class: 'quiet' },
    door.closesAt ? say('until', { moment: moment(door.closesAt, door.now) }) : say('until.closed'),
  );
}

function stateRefusal(state: Exclude<ShareState, 'open'>, door: VisitorDoor): HTMLElement {
  const { sender, office, opensAt, closesAt, now } = door;
  const at = state === 'scheduled' ? opensAt : closesAt;
  const title = say(`${state}.title`);
  const key = state === 'closed' && door.barred ? 'barred' : state;
  const text = say(key, { sender, office, moment: at ? moment(at, now) : '' });
  return h('section', { class: 'refusal', 'data-state': state }, h('h2', {}, title), h('p', {}, text));
}

function opening(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  const { sender, office, visitsLeft: left } = door;
  if (shown.problem?.code === 'share.sign-in') return signingIn(say('sign-in', { sender, office }), actions.signInUrl);
  const below =
    left === null
      ? null
      : h('p', { class: 'quiet' }, left === 1 ? say('visits.last') : say('visits.left', { count: left }));
  return proofPart(door, shown, { press: say('open'), busy: say('open.busy'), below }, actions);
}

function contentsPart(contents: VisitorContents, shown: Shown, actions: Actions): HTMLElement {
  const { files, notAll, arriving, seesOthers } = contents;
  const archive =
    shown.view.chosen.length > 0 ? chosenPart(contents, shown, actions) : allPart(contents, shown, actions);
  return h(
    'section',
    {},
    faultOf(shown),
    bringingPart(contents, actions.brought(), actions.bringing),
    seesOthers ? null : h('p', { class: 'quiet' }, say('only-yours')),
    ...givenWords(contents),
    h(
      'div',
      { class: 'all' },
      h('h2', {}, say('files.size', { files: filesOf(files.length), size: size(contents.totalBytes) })),
      archive,
    ),
    notAll
      ? h('p', { class: 'quiet' }, `${say('all.not')} ${problemWords({ code: notAll.code, detail: notAll.words })}`)
      : null,
    notAll?.more ? h('p', { class: 'quiet' }, say('all.first', { files: filesOf(files.length) })) : null,
    ...(files.length > 0
      ? filesPart({ contents, view: shown.view }, finder(actions), actions)
      : [h('p', { class: 'quiet' }, emptyWords(contents))]),
    checksumsPart(contents, actions),
    arriving.length > 0 ? arrivingPart(arriving, shown.waits, actions) : null,
  );
}

/** All as one: at once, or once the copies are made that it needs. */
function allPart(contents: VisitorContents, shown: Shown, actions: Actions): Child {
  const { archiveBytes, copies, notAll, files, arriving } = contents;
  if (files.length < 2) return null;
  if (archiveBytes !== null)
    return h(
      'a',
      { class: 'main', href: actions.archiveUrl([]), download: '', title: exactBytes(archiveBytes) },
      say(arriving.length > 0 ? 'all.there' : 'all', { size: size(archiveBytes) }),
    );
  const isWaited = copies && !notAll && copies.made < copies.of;
  return isWaited ? takingPart(say('all.marked'), shown, () => actions.takeAll([])) : null;
}

/** What is chosen, as one. */
function chosenPart({ files, copies }: VisitorContents, shown: Shown, actions: Actions): Child {
  const { chosen } = shown.view;
  const words = say('chosen', { files: filesOf(chosen.length) });
  const isMarked = files.some((f) => f.handing === 'marked' && chosen.includes(f.id));
  const taking =
    isMarked && copies && copies.made < copies.of
      ? takingPart(words, shown, () => actions.takeAll(chosen))
      : h('a', { class: 'main', id: 'take', href: actions.archiveUrl(chosen), download: '' }, words);
  const none = { type: 'button', class: 'plain', id: 'choose-none', onclick: actions.chooseNone };
  return h('span', { class: 'taking' }, h('button', none, say('chosen.none')), taking);
}

function takingPart(words: string, { making }: Shown, take: () => void): HTMLElement {
  const attributes = { type: 'button', class: 'main', id: 'take', onclick: take, ...(making && { disabled: '' }) };
  return h('button', attributes, making ? say('all.marking', { made: making.made, of: making.of }) : words);
}

/** The field stays through every drawing, with what is typed into it. */
function finder(actions: Actions): HTMLInputElement {
  const isNew = !fields.has('find');
  const input = field('find', { type: 'search', 'aria-label': say('find'), placeholder: say('find') });
  input.required = false;
  if (isNew) input.addEventListener('input', () => actions.find(input.value));
  return input;
}

function checksumsPart({ files }: VisitorContents, actions: Actions): Child {
  const isGiven = files.some((f) => f.handing === 'plain');
  return isGiven
    ? h('p', { class: 'quiet' }, h('a', { href: actions.checksumsUrl, download: '' }, say('checksums')))
    : null;
}

/** What is said of how files are given. */
function givenWords({ level, files, markedFor }: VisitorContents): HTMLElement[] {
  const words: string[] = [];
  const who = markedFor ?? '';
  if (level === 'view') words.push(say('look.only', { who }));
  else {
    if (files.some((f) => f.handing === 'marked')) words.push(say('marked', { who }));
    const withheld = files.filter((f) => f.handing === 'withheld');
    const spent = withheld.filter((f) => f.isSpent).length;
    if (withheld.length > spent) words.push(say('withheld', { count: withheld.length - spent }));
    if (spent > 0) words.push(say('spent', { count: spent }));
  }
  return words.map((text) => h('p', { class: 'quiet' }, text));
}

/** What is on its way, and the choice to wait for it. */
function arrivingPart(arriving: ArrivingFile[], waits: boolean, actions: Actions): HTMLElement {
  return h(
    'section',
    { class: 'arriving', 'aria-label': say('arriving') },
    h('p', {}, say('arriving.files', { count: arriving.length })),
    h(
      'ul',
      { class: 'files' },
      ...arriving.map(({ name, sizeBytes, arrivedBytes }) =>
        h(
          'li',
          { class: 'quiet' },
          h('span', {}, name),
          h(
            'span',
            { class: 'size' },
            arrivedBytes > 0
              ? say('arriving.of', { arrived: size(arrivedBytes), size: size(sizeBytes) })
              : size(sizeBytes),
          ),
        ),
      ),
    ),
    h(
      'button',
      { type: 'button', class: 'plain', onclick: () => actions.wait(!waits) },
      say(waits ? 'arriving.waits' : 'arriving.wait'),
    ),
  );
}

const emptyWords = ({ seesOthers }: VisitorContents): string => say(seesOthers ? 'empty' : 'empty.yours');
