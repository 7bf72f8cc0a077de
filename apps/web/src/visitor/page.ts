import type {
  ArrivingFile,
  CodeAsked,
  CopiesMade,
  OpenShare,
  ProblemBody,
  VisitorContents,
  VisitorDoor,
  VisitorFile,
} from '@quay/contract';
import {
  countOf,
  previewKind,
  formatExactBytes,
  formatSize,
  momentInWords,
  zoneName,
  type ShareState,
} from '@quay/core';
import type { BringActions, Brought } from './bringing';
import { bringingPart } from './bringing-part';
import { h, type Child } from './h';

export interface Actions {
  open: (asked: OpenShare) => void;
  sendCode: (asked: { address: string; password: string | null }) => void;
  /** Asks for a code for another address. */
  forgetCode: () => void;
  again: () => void;
  fileUrl: (id: string) => string;
  /** Looks at a file without taking it. */
  look: (id: string) => void;
  archiveUrl: string;
  /** Has what is given marked made, then takes all as one. */
  takeAll: () => void;
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
  code: CodeAsked | null;
  /** All is taken when the last file has arrived. */
  waits: boolean;
  making: CopiesMade | null;
}

/** The visitor's own zone: closing times are theirs to keep. */
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const moment = (at: string, now: string): string =>
  `${momentInWords(Date.parse(at), Date.parse(now), zone)} (${zoneName(Date.parse(at), zone)})`;

/** What was drawn last, so that news that change nothing on the page do not touch it. */
let drawn = '';
/** A field is one and the same through every drawing: what is being typed into it is never interrupted. */
const fields = new Map<string, HTMLInputElement>();

function field(id: string, attributes: Record<string, string>): HTMLInputElement {
  const there = fields.get(id);
  if (there) return there;
  const made = h('input', { id, name: id, required: '', ...attributes }) as HTMLInputElement;
  fields.set(id, made);
  return made;
}

/**
 * Draws the page for what is known, if that differs from what is shown. Focus and what was typed stay where they are.
 */
export function draw(page: HTMLElement, shown: Shown, actions: Actions): void {
  // Of the moment only the day shows in words.
  const next = JSON.stringify([
    shown.door && { ...shown.door, now: shown.door.now.slice(0, 10) },
    shown.problem,
    shown.busy,
    shown.code,
    shown.waits,
    shown.making,
  ]);
  if (next === drawn) return;
  drawn = next;
  const focused = document.activeElement?.id;
  page.replaceChildren(...(shown.door ? doorParts(shown.door, shown, actions) : [refusal(shown.problem, actions)]));
  document.title = shown.door ? `${shown.door.title}, ${shown.door.office}` : 'Not found';
  if (focused) document.getElementById(focused)?.focus();
}

function refusal(problem: Partial<ProblemBody> | null, actions: Actions): HTMLElement {
  if (!problem) return h('p', { class: 'quiet' }, 'One moment.');
  return h(
    'section',
    { class: 'refusal' },
    h('h1', {}, problem.code === 'share.not-found' ? 'There is nothing at this link' : 'That did not work'),
    h('p', {}, problem.detail ?? ''),
    problem.code === 'share.not-found' ? null : h('button', { type: 'button', onclick: actions.again }, 'Try again'),
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
    door.you ? h('p', { class: 'quiet' }, `For ${door.you}.`) : null,
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
    door.closesAt ? `Open until ${moment(door.closesAt, door.now)}.` : 'Open until the sender closes it.',
  );
}

function stateRefusal(state: Exclude<ShareState, 'open'>, door: VisitorDoor): HTMLElement {
  const words: Record<typeof state, [string, string]> = {
    scheduled: [
      'Not open yet',
      `It opens ${door.opensAt ? moment(door.opensAt, door.now) : 'later'}. This page opens by itself then.`,
    ],
    closed: [
      'Closed',
      `It closed ${door.closesAt ? moment(door.closesAt, door.now) : ''}. Ask ${door.sender} to open it again.`,
    ],
    usedUp: ['All visits are used', `Ask ${door.sender} to allow more.`],
    withdrawn: ['Withdrawn', `${door.sender} has withdrawn this share.`],
    broken: [
      'The files are not there',
      `Ask ${door.sender} to put them back. This page shows them as soon as they are.`,
    ],
  };
  const [title, text] =
    state === 'closed' && door.barred
      ? ['Closed', `A rule of ${door.office} keeps it closed. Ask ${door.sender}, who knows of it.`]
      : words[state];
  return h('section', { class: 'refusal', 'data-state': state }, h('h2', {}, title), h('p', {}, text));
}

function opening(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  if (shown.problem?.code === 'share.sign-in') return signingIn(door, actions);
  return door.needsCode && !shown.code ? askingCode(door, shown, actions) : entering(door, shown, actions);
}

/** The way to where people of the office and its guests sign in; they come back here. */
function signingIn(door: VisitorDoor, actions: Actions): HTMLElement {
  return h(
    'section',
    {},
    h('p', {}, `${door.sender} has shared this with people who sign in at ${door.office}.`),
    h('a', { class: 'main', href: actions.signInUrl }, 'Sign in'),
  );
}

/** First of two steps: where the code goes. */
function askingCode(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  const address = field('address', { type: 'email', autocomplete: 'email' });
  const password = door.needsPassword ? passwordParts() : null;
  return h(
    'form',
    {
      onsubmit: (e: Event) => {
        e.preventDefault();
        actions.sendCode({ address: address.value, password: password?.input.value ?? null });
      },
    },
    h('p', {}, `Only those it is for can open this. A code is sent to your mail address.`),
    ...(password?.nodes ?? []),
    h('label', { for: 'address' }, 'Your mail address'),
    h('div', { class: 'reveal' }, address),
    faultOf(shown),
    submit(shown.busy, 'Send me a code', 'Sending'),
  );
}

/** The password, or the code that was sent; whatever the share asks for. */
function entering(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  const { code } = shown;
  const password = door.needsPassword ? passwordParts() : null;
  const digits = code ? field('code', { inputmode: 'numeric', autocomplete: 'one-time-code', maxlength: '7' }) : null;
  const left = door.visitsLeft;
  return h(
    'form',
    {
      onsubmit: (e: Event) => {
        e.preventDefault();
        const proof = code && digits ? { address: code.address, ticket: code.ticket, code: digits.value } : {};
        actions.open({ password: password?.input.value ?? null, ...proof });
      },
    },
    ...(code && digits ? codeParts(code, digits) : []),
    ...(password && !code ? password.nodes : []),
    faultOf(shown),
    submit(shown.busy, 'Open', 'Opening'),
    code
      ? h('button', { type: 'button', class: 'plain', onclick: actions.forgetCode }, 'Another address or code')
      : null,
    left === null
      ? null
      : h(
          'p',
          { class: 'quiet' },
          `Opening uses ${left === 1 ? 'the last visit' : `one of ${left} visits left`}. In this browser you can come back for twelve hours.`,
        ),
  );
}

function codeParts(code: CodeAsked, digits: HTMLInputElement): HTMLElement[] {
  return [
    h('p', {}, `If this is for ${code.address}, a code is on its way there. It holds for ${code.minutes} minutes.`),
    h('label', { for: 'code' }, 'Code from the mail'),
    h('div', { class: 'reveal' }, digits),
  ];
}

function passwordParts(): { input: HTMLInputElement; nodes: HTMLElement[] } {
  const input = field('password', { type: 'password', autocomplete: 'off' });
  const toggle = () => (input.type = input.type === 'password' ? 'text' : 'password');
  const show = { type: 'button', class: 'plain', 'aria-label': 'Show the password', onclick: toggle };
  return {
    input,
    nodes: [
      h('label', { for: 'password' }, 'Password'),
      h('div', { class: 'reveal' }, input, h('button', show, 'Show')),
    ],
  };
}

const faultOf = ({ problem }: Shown): Child =>
  problem?.detail ? h('p', { class: 'fault', role: 'alert' }, problem.detail) : null;

const submit = (busy: boolean, words: string, going: string): HTMLElement =>
  h('button', { type: 'submit', class: 'main', ...(busy && { disabled: '' }) }, busy ? going : words);

function contentsPart(contents: VisitorContents, shown: Shown, actions: Actions): HTMLElement {
  const { files, archiveBytes, notAll, arriving, seesOthers } = contents;
  const groups = grouped(files);
  const words = arriving.length > 0 ? 'Download what is there' : 'Download all';
  const archive =
    archiveBytes === null || files.length < 2
      ? allMarked(contents, shown, actions)
      : h(
          'a',
          { class: 'main', href: actions.archiveUrl, download: '', title: formatExactBytes(archiveBytes) },
          `${words}, ${formatSize(archiveBytes)}`,
        );
  return h(
    'section',
    {},
    faultOf(shown),
    bringingPart(contents, actions.brought(), actions.bringing),
    seesOthers ? null : h('p', { class: 'quiet' }, 'You see only what you bring yourself.'),
    ...givenWords(contents),
    h(
      'div',
      { class: 'all' },
      h('h2', {}, `${countOf(files.length, 'file')}, ${formatSize(contents.totalBytes)}`),
      archive,
    ),
    notAll ? h('p', { class: 'quiet' }, `These cannot be downloaded as one. ${notAll.words}`) : null,
    notAll?.more ? h('p', { class: 'quiet' }, `Only the first ${countOf(files.length, 'file')} are listed.`) : null,
    files.length
      ? h(
          'ul',
          { class: 'files' },
          ...groups.map(([folder, inside]) => folderPart(folder, inside, groups.length === 1, contents, actions)),
        )
      : h('p', { class: 'quiet' }, emptyWords(contents)),
    arriving.length > 0 ? arrivingPart(arriving, shown.waits, actions) : null,
  );
}

/** All as one, where copies must be made for that first. */
function allMarked({ copies, notAll, files }: VisitorContents, { making }: Shown, actions: Actions): Child {
  if (!copies || notAll || files.length < 2 || copies.made === copies.of) return null;
  const attributes = { type: 'button', class: 'main', onclick: actions.takeAll, ...(making && { disabled: '' }) };
  return h(
    'button',
    attributes,
    making ? `Marking ${making.made} of ${countOf(making.of, 'copy', 'copies')}` : 'Download all',
  );
}

/** What is said of how files are given. */
function givenWords({ level, files, markedFor }: VisitorContents): HTMLElement[] {
  const words: string[] = [];
  const by = markedFor ? ` with ${markedFor}` : '';
  if (level === 'view')
    words.push(
      `To look at only: nothing is downloaded, and pictures are marked${by}. What is on a screen can still be photographed.`,
    );
  else {
    if (files.some((f) => f.handing === 'marked')) words.push(`Pictures and PDF that you take are marked${by}.`);
    const withheld = files.filter((f) => f.handing === 'withheld').length;
    if (withheld > 0) words.push(`${countOf(withheld, 'file')} cannot be marked, and cannot be taken.`);
  }
  return words.map((text) => h('p', { class: 'quiet' }, text));
}

/** The name of a file, by which it is taken where it may be. */
function nameOf({ id, sha256, handing }: VisitorFile, name: string, actions: Actions): HTMLElement {
  if (handing === 'withheld') return h('span', {}, name);
  // The checksum is of the file as it is.
  const title = handing === 'plain' ? `SHA-256 ${sha256}` : 'A copy that is marked for you';
  return h('a', { href: actions.fileUrl(id), download: name, title }, name);
}

/** What is on its way, and the choice to wait for it. */
function arrivingPart(arriving: ArrivingFile[], waits: boolean, actions: Actions): HTMLElement {
  return h(
    'section',
    { class: 'arriving', 'aria-label': 'Still arriving' },
    h('p', {}, `${countOf(arriving.length, 'file')} still arriving. This page shows each as soon as it is there.`),
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
            `${arrivedBytes > 0 ? `${formatSize(arrivedBytes)} of ` : ''}${formatSize(sizeBytes)}`,
          ),
        ),
      ),
    ),
    h(
      'button',
      { type: 'button', class: 'plain', onclick: () => actions.wait(!waits) },
      waits ? 'Waiting. Do not download by itself' : 'Download all when the last has arrived',
    ),
  );
}

/** Files by the folder they lie in, in the order they came. */
function grouped(files: VisitorFile[]): [string, VisitorFile[]][] {
  const groups = new Map<string, VisitorFile[]>();
  for (const file of files) {
    const folder = file.path.includes('/') ? file.path.slice(0, file.path.lastIndexOf('/')) : '';
    const group = groups.get(folder);
    if (group) group.push(file);
    else groups.set(folder, [file]);
  }
  return [...groups];
}

const emptyWords = ({ seesOthers }: VisitorContents): string =>
  seesOthers
    ? 'Nothing is in it yet. This page shows the files as soon as they are there.'
    : 'You have brought nothing yet.';

/** Whether there is something to show: texts, sound and film are the file itself. */
function canBeLookedAt({ path, handing }: VisitorFile): boolean {
  const kind = previewKind(path);
  return kind === 'image' || kind === 'pages' || (kind !== 'none' && handing === 'plain');
}

/** What can be done with a file besides taking it. */
function fileVerbs(file: VisitorFile, folder: string, contents: VisitorContents, actions: Actions): HTMLElement[] {
  const name = file.path.slice(file.path.lastIndexOf('/') + 1);
  const place = contents.places.find((p) => p.path === folder);
  const verbs: HTMLElement[] = [];
  if (place && (contents.level === 'edit' || file.own)) {
    const input = h('input', { type: 'file', class: 'file', 'aria-label': `Replace ${name}` }) as HTMLInputElement;
    input.addEventListener('change', () => {
      const [chosen] = input.files ?? [];
      if (chosen) actions.bringing.replace(chosen, { name, folderId: place.id, sha256: file.sha256 });
    });
    verbs.push(h('label', { class: 'verb' }, 'Replace', input));
  }
  if (file.own)
    verbs.push(
      h(
        'button',
        { type: 'button', class: 'verb', 'aria-label': `Take back ${name}`, onclick: () => actions.takeBack(file.id) },
        'Take back',
      ),
    );
  return verbs;
}

function folderPart(
  folder: string,
  files: VisitorFile[],
  only: boolean,
  contents: VisitorContents,
  actions: Actions,
): HTMLElement {
  const rows = files.map((f) => {
    const name = f.path.slice(f.path.lastIndexOf('/') + 1);
    return h(
      'li',
      {},
      nameOf(f, name, actions),
      canBeLookedAt(f)
        ? h(
            'button',
            { type: 'button', class: 'verb', 'aria-label': `Look at ${name}`, onclick: () => actions.look(f.id) },
            'Look',
          )
        : null,
      ...fileVerbs(f, folder, contents, actions),
      h('span', { class: 'size', title: formatExactBytes(f.sizeBytes) }, formatSize(f.sizeBytes)),
    );
  });
  if (folder === '') return h('li', {}, h('ul', {}, ...rows));
  return h(
    'li',
    {},
    h(
      'details',
      // A single folder is what the visitor came for.
      only || files.length <= 12 ? { open: '' } : {},
      h(
        'summary',
        {},
        folder.split('/').join(' / '),
        h('span', { class: 'quiet' }, ` ${countOf(files.length, 'file')}`),
      ),
      h('ul', {}, ...rows),
    ),
  );
}
