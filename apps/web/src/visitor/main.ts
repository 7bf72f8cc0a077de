import '@fontsource-variable/atkinson-hyperlegible-next/index.css';
import '@fontsource-variable/atkinson-hyperlegible-mono/index.css';
import type { CodeAsked, CopiesMade, OpenShare, ProblemBody, VisitorDoor } from '@quay/contract';
import { MOST_PICKED } from '@quay/core';
import { listenWhileShown } from '../live-source';
import { asker, AWAY } from './ask';
import { Bringing } from './bringing';
import { showBringing } from './bringing-part';
import { Viewer } from './viewer';
import { hashOf, viewOf, type View } from './walk';
import { draw, type Actions } from './page';
import './visitor.css';
import { say } from './words';

/** Everything below the link: /s/<token>. */
const base = location.pathname.replace(/\/$/, '');
const page = document.getElementById('page') as HTMLElement;

interface Shown {
  door: VisitorDoor | null;
  problem: Partial<ProblemBody> | null;
  busy: boolean;
  /** The server does not answer at the moment. */
  isAway: boolean;
  /** Where a code was asked for. */
  code: CodeAsked | null;
  /** All is taken when the last file has arrived. */
  waits: boolean;
  /** How far the copies are that all is taken as. */
  making: CopiesMade | null;
  view: View;
}

let shown: Shown = {
  door: null,
  problem: null,
  busy: false,
  isAway: false,
  code: null,
  waits: false,
  making: null,
  view: { find: '', chosen: [], ...viewOf(location.hash) },
};
/** Answers of questions that were overtaken by a later one are dropped. */
let latest = 0;
let lookLater = false;
let timer: ReturnType<typeof setTimeout> | undefined;

const ask = asker(base);

const bringing = new Bringing(
  base,
  () => {
    const contents = shown.door?.contents;
    if (contents) showBringing(contents, bringing.list);
  },
  () => void look(),
);
addEventListener('beforeunload', (e) => {
  if (bringing.isBusy) e.preventDefault();
});

const viewer = new Viewer({
  files: () => shown.door?.contents?.files ?? [],
  urlOf: (id) => `${base}/files/${id}`,
  factsOf: (id) => `${base}/files/${id}/look`,
});

const actions: Actions = {
  look: (id) => viewer.show(id),
  bringing,
  brought: () => bringing.list,
  takeBack: (id) => void takeBack(id),
  open: (asked) => void open(asked),
  sendCode: (asked) => void sendCode(asked),
  forgetCode: () => show({ code: null, problem: null }),
  again: () => void look(),
  fileUrl: (id) => `${base}/files/${id}`,
  archiveUrl: (ids) => `${base}/all.zip${ids.length > 0 ? `?${ids.map((id) => `ids=${id}`).join('&')}` : ''}`,
  checksumsUrl: `${base}/SHA256SUMS`,
  takeAll: (ids) => void takeAll(ids),
  find: (find) => view({ find }),
  showAs: (pictures) => {
    view({ pictures });
    history.replaceState(null, '', hashOf(shown.view) || location.pathname);
  },
  walk: (folder) => {
    view({ folder });
    // The browser's way back leads out of it.
    history.pushState(null, '', hashOf(shown.view) || location.pathname);
  },
  choose: (id, on) => {
    const chosen = shown.view.chosen.filter((each) => each !== id);
    if (on && chosen.length >= MOST_PICKED) show({ problem: { detail: say('chosen.most', { count: MOST_PICKED }) } });
    else view({ chosen: on ? [...chosen, id] : chosen });
  },
  chooseNone: () => view({ chosen: [] }),
  wait: (waits) => show({ waits }),
  logoUrl: (version) => `${base}/logo?v=${version}`,
  markUrl: `${base.replace(/\/s\/[^/]*$/, '')}/mark.svg`,
  signInUrl: base.replace(/\/s\/[^/]*$/, (share) => `/sign-in?back=${encodeURIComponent(share)}`),
};

const view = (part: Partial<View>): void => show({ view: { ...shown.view, ...part }, problem: null });

function show(part: Partial<Shown>): void {
  shown = { ...shown, ...part };
  // What is not there any more is not chosen either.
  const given = shown.door?.contents?.files.filter((f) => f.handing !== 'withheld').map((f) => f.id) ?? [];
  shown.view = { ...shown.view, chosen: shown.view.chosen.filter((id) => given.includes(id)) };
  draw(page, shown, actions);
  viewer.refresh();
}

/** Asks what may be shown now. A share that counts nothing and asks for nothing opens by itself. */
async function look(): Promise<void> {
  // While the door is being opened an answer could only be older than the one that is on its way.
  if (shown.busy) {
    lookLater = true;
    return;
  }
  latest += 1;
  const mine = latest;
  const found = await ask<VisitorDoor>('door');
  if (mine !== latest) return;
  if ('problem' in found) {
    // What is shown stays while the server cannot be asked: it goes on by itself.
    if (found.problem.code === AWAY.code && shown.door) show({ isAway: true });
    else show({ problem: found.problem, door: null, isAway: false });
    return;
  }
  const { answer: door } = found;
  show({ door, isAway: false, problem: door.contents || door.state !== 'open' ? null : shown.problem });
  follow(door);
  wakeAtChange(door);
  takeWhenAllIsThere(door);
  if (door.state !== 'open' || door.contents || door.needsPassword || door.countsVisits || door.needsCode) return;
  // Who would have to sign in first is told so once.
  if (shown.problem?.code !== 'share.sign-in' && shown.problem?.code !== 'share.not-meant')
    await open({ password: null });
}

/** The download that was waited for begins. */
function takeWhenAllIsThere(door: VisitorDoor): void {
  if (!shown.waits || !door.contents || door.contents.arriving.length > 0) return;
  show({ waits: false });
  location.assign(actions.archiveUrl([]));
}

/** Has the copies made that are marked for this visit, then takes all as one. */
async function takeAll(ids: readonly string[]): Promise<void> {
  show({ making: { made: 0, of: ids.length || (shown.door?.contents?.copies?.of ?? 0) }, problem: null });
  for (;;) {
    const found = await ask<CopiesMade>('copies', ids.length > 0 ? { ids } : {});
    if ('problem' in found) return show({ making: null, problem: found.problem });
    show({ making: found.answer });
    if (found.answer.made >= found.answer.of) break;
  }
  show({ making: null });
  await look();
  if (ids.length > 0 || shown.door?.contents?.archiveBytes) location.assign(actions.archiveUrl(ids));
}

/** Takes back what this visitor brought. */
async function takeBack(id: string): Promise<void> {
  const answer = await fetch(`${base}/files/${id}`, { method: 'DELETE' }).catch(() => null);
  const problem = answer?.ok ? null : ((await answer?.json().catch(() => AWAY)) as Partial<ProblemBody> | undefined);
  await look();
  if (!answer?.ok) show({ problem: problem ?? AWAY });
}

/** Has a code sent. Whether one is sent is told by nothing. */
async function sendCode(asked: { address: string; password: string | null }): Promise<void> {
  show({ busy: true });
  const found = await ask<CodeAsked>('code', asked);
  if ('answer' in found) show({ code: found.answer, problem: null, busy: false });
  else show({ problem: found.problem, busy: false });
}

async function open(asked: OpenShare): Promise<void> {
  latest += 1;
  show({ busy: true });
  const found = await ask<VisitorDoor>('open', asked);
  if ('answer' in found) {
    show({ door: found.answer, problem: null, busy: false, code: null });
    follow(found.answer);
    wakeAtChange(found.answer);
  } else {
    show({ problem: found.problem, busy: false });
    if (found.problem.status === 410 || found.problem.status === 403) lookLater = true;
  }
  if (lookLater) {
    lookLater = false;
    await look();
  }
}

/** Looks again when the window opens or closes, by the server's clock. */
function wakeAtChange(door: VisitorDoor): void {
  clearTimeout(timer);
  const ahead = Date.parse(door.now) - Date.now();
  const times = [door.opensAt, door.closesAt]
    .filter((t): t is string => t !== null)
    .map((t) => Date.parse(t) - ahead - Date.now());
  const next = Math.min(...times.filter((ms) => ms > 0));
  // Timers hold 31 bits; a window further ahead is looked at again with the next change.
  if (next < 2 ** 31) timer = setTimeout(() => void look(), next + 300);
}

/** How often a page that hears nothing asks: often while somebody has just come, then seldom. */
const ASK_MS = 5000;
const OFTEN_FOR_MS = 120_000;
const SELDOM_EVERY = 6;

let stopListening: (() => void) | null = null;

/** A page with a visit is told of changes; any other asks from time to time, because nobody else is told anything. */
function follow(door: VisitorDoor): void {
  if (!door.contents) {
    stopListening?.();
    stopListening = null;
  } else
    stopListening ??= listenWhileShown(
      `${base}/events`,
      () => void look(),
      () => void look(),
      () => {
        stopListening = null;
        void look();
      },
      () => void look(),
    );
}

for (const change of ['online', 'offline']) addEventListener(change, () => void look());
addEventListener('popstate', () => view(viewOf(location.hash)));

const cameAt = Date.now();
let ticks = 0;
setInterval(() => {
  ticks += 1;
  // How much has arrived is no news that anybody is told.
  const isArriving = (shown.door?.contents?.arriving.length ?? 0) > 0;
  if (
    (stopListening && !isArriving && !shown.isAway) ||
    document.visibilityState === 'hidden' ||
    shown.problem?.code === 'share.not-found'
  )
    return;
  if (shown.isAway || Date.now() - cameAt < OFTEN_FOR_MS || ticks % SELDOM_EVERY === 0) void look();
}, ASK_MS);

void look();
