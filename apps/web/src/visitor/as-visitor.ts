import '@fontsource-variable/atkinson-hyperlegible-next/index.css';
import '@fontsource-variable/atkinson-hyperlegible-mono/index.css';
import type { CodeAsked, ProblemBody, SeenPage } from '@quay/contract';
import { CODE_LIFETIME_MS, MOST_PICKED } from '@quay/core';
import type { BringActions } from './bringing';
import type { View } from './walk';
import { draw, type Actions } from './page';
import { toStaff, type FromStaff } from './seen';
import { Viewer } from './viewer';
import './visitor.css';

// The visitor's page as whoever publishes sees it, within a page of the office: drawn by the same code as for
// visitors, from what the office's page hands it. Nothing is opened, taken or brought by it.

const page = document.getElementById('page') as HTMLElement;

let seen: SeenPage | null = null;
let isInside = false;
let problem: Partial<ProblemBody> | null = null;
let code: CodeAsked | null = null;
let view: View = { find: '', pictures: false, folder: '', chosen: [] };

/** Files are looked at as whoever publishes them. */
const fileUrl = (id: string): string => `files/${id}`;

const viewer = new Viewer({
  files: () => seen?.inside?.contents?.files ?? [],
  urlOf: fileUrl,
  factsOf: (id) => `${fileUrl(id)}/preview`,
});

const nothingTaken = (): void => toStaff({ kind: 'nothing-taken' });
const bringing: BringActions = {
  bring: nothingTaken,
  replace: nothingTaken,
  decide: nothingTaken,
  again: nothingTaken,
  stop: nothingTaken,
  clear: nothingTaken,
};

const actions: Actions = {
  ...{ fileUrl, bringing, takeBack: nothingTaken, takeAll: nothingTaken, wait: nothingTaken },
  look: (id) => viewer.show(id),
  brought: () => [],
  open: () => enter(),
  sendCode: ({ address }) => {
    // The page around this one asks whether that address would be let in.
    code = { address, ticket: '', minutes: CODE_LIFETIME_MS / 60_000 };
    problem = null;
    toStaff({ kind: 'as-address', address });
    show();
  },
  forgetCode: () => {
    code = null;
    problem = null;
    show();
  },
  again: () => show(),
  archiveUrl: () => '#all',
  checksumsUrl: '#checksums',
  find: (find) => look({ find }),
  showAs: (pictures) => look({ pictures }),
  walk: (folder) => look({ folder }),
  choose: (id, on) => {
    const others = view.chosen.filter((each) => each !== id);
    look({ chosen: on ? [...others, id].slice(0, MOST_PICKED) : others });
  },
  chooseNone: () => look({ chosen: [] }),
  logoUrl: (version) => `../s/logo/logo?v=${version}`,
  markUrl: '../mark.svg',
  signInUrl: '#sign-in',
};

function look(part: Partial<View>): void {
  view = { ...view, ...part };
  show();
}

/** Whatever is typed opens it, if whoever it is seen as is let in. */
function enter(): void {
  isInside = seen?.inside !== null;
  problem = seen?.kept ? { code: seen.kept.code, detail: seen.kept.told } : null;
  show();
}

function show(): void {
  const door = (isInside ? seen?.inside : null) ?? seen?.door ?? null;
  draw(page, { door, problem, code, view, busy: false, isAway: false, waits: false, making: null }, actions);
  viewer.refresh();
}

/** What is seen has changed: it begins again at the door, or goes on inside. */
function take(next: SeenPage): void {
  const { door } = next;
  const opensByItself = door.state === 'open' && !door.needsPassword && !door.countsVisits && !door.needsCode;
  const hasChanged = seen?.inside?.you !== next.inside?.you;
  seen = next;
  if (next.inside === null || hasChanged) isInside = false;
  if (!next.kept) problem = null;
  if (opensByItself) enter();
  else show();
}

// Programs in the browser say things of their own.
addEventListener('message', ({ origin, source, data }: MessageEvent<Partial<FromStaff> | null>) => {
  if (origin === location.origin && source === parent && data?.seen) take(data.seen);
});

// Links of the page lead to bytes, or away: here they lead nowhere.
addEventListener(
  'click',
  (e) => {
    if (!(e.target instanceof Element) || !e.target.closest('a')) return;
    e.preventDefault();
    nothingTaken();
  },
  true,
);

show();
toStaff({ kind: 'ready' });
