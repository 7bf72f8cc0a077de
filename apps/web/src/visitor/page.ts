import type { ProblemBody, VisitorContents, VisitorDoor, VisitorFile } from '@quay/contract';
import { countOf, formatExactBytes, formatSize, momentInWords, zoneName, type ShareState } from '@quay/core';
import { h, type Child } from './h';

export interface Actions {
  open: (password: string | null) => void;
  again: () => void;
  fileUrl: (id: string) => string;
  archiveUrl: string;
  logoUrl: (version: string) => string;
  /** The product's mark, for an office without a logo. */
  markUrl: string;
}

interface Shown {
  door: VisitorDoor | null;
  problem: Partial<ProblemBody> | null;
  busy: boolean;
}

/** The visitor's own zone: closing times are theirs to keep. */
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const moment = (at: string, now: string): string =>
  `${momentInWords(Date.parse(at), Date.parse(now), zone)} (${zoneName(Date.parse(at), zone)})`;

/** What was drawn last, so that news that change nothing on the page do not touch it. */
let drawn = '';
/** The password field is one and the same through every drawing: what is being typed into it is never interrupted. */
let passwordField: HTMLInputElement | null = null;

/**
 * Draws the page for what is known, if that differs from what is shown. Focus and what was typed stay where they are.
 */
export function draw(page: HTMLElement, shown: Shown, actions: Actions): void {
  // Of the moment only the day shows in words.
  const next = JSON.stringify([
    shown.door && { ...shown.door, now: shown.door.now.slice(0, 10) },
    shown.problem,
    shown.busy,
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
  );
  const foot = door.officeWords ? [h('footer', {}, door.officeWords)] : [];
  return [head, inside(door, shown, actions), ...foot];
}

function inside(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  if (door.contents) return contentsPart(door.contents, actions);
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
  const [title, text] = words[state];
  return h('section', { class: 'refusal', 'data-state': state }, h('h2', {}, title), h('p', {}, text));
}

function opening(door: VisitorDoor, shown: Shown, actions: Actions): HTMLElement {
  passwordField ??= h('input', {
    id: 'password',
    name: 'password',
    type: 'password',
    autocomplete: 'off',
    required: '',
  }) as HTMLInputElement;
  const field = passwordField;
  const left = door.visitsLeft;
  return h(
    'form',
    {
      onsubmit: (e: Event) => {
        e.preventDefault();
        actions.open(door.needsPassword ? field.value : null);
      },
    },
    door.needsPassword ? h('label', { for: 'password' }, 'Password') : null,
    door.needsPassword
      ? h(
          'div',
          { class: 'reveal' },
          field,
          h(
            'button',
            {
              type: 'button',
              class: 'plain',
              'aria-label': 'Show the password',
              onclick: () => (field.type = field.type === 'password' ? 'text' : 'password'),
            },
            'Show',
          ),
        )
      : null,
    shown.problem?.detail ? h('p', { class: 'fault', role: 'alert' }, shown.problem.detail) : null,
    h(
      'button',
      { type: 'submit', class: 'main', ...(shown.busy && { disabled: '' }) },
      shown.busy ? 'Opening' : 'Open',
    ),
    left === null
      ? null
      : h(
          'p',
          { class: 'quiet' },
          `Opening uses ${left === 1 ? 'the last visit' : `one of ${left} visits left`}. In this browser you can come back for twelve hours.`,
        ),
  );
}

function contentsPart(contents: VisitorContents, actions: Actions): HTMLElement {
  const { files, archiveBytes, notAll } = contents;
  const groups = grouped(files);
  const archive =
    archiveBytes === null || files.length < 2
      ? null
      : h(
          'a',
          { class: 'main', href: actions.archiveUrl, download: '', title: formatExactBytes(archiveBytes) },
          `Download all, ${formatSize(archiveBytes)}`,
        );
  return h(
    'section',
    {},
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
          ...groups.map(([folder, inside]) => folderPart(folder, inside, groups.length === 1, actions)),
        )
      : h('p', { class: 'quiet' }, 'There is nothing in it at the moment.'),
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

function folderPart(folder: string, files: VisitorFile[], only: boolean, actions: Actions): HTMLElement {
  const rows = files.map((f) => {
    const name = f.path.slice(f.path.lastIndexOf('/') + 1);
    return h(
      'li',
      {},
      h('a', { href: actions.fileUrl(f.id), download: name, title: `SHA-256 ${f.sha256}` }, name),
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
