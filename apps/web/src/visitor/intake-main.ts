import '@fontsource-variable/atkinson-hyperlegible-next/index.css';
import '@fontsource-variable/atkinson-hyperlegible-mono/index.css';
import type { BegunDeposit, CodeAsked, HandedIn, IntakeDoor, ProofAsked } from '@quay/contract';
import type { IntakeAnswers } from '@quay/core';
import { asker, AWAY } from './ask';
import { Bringing, type BringActions } from './bringing';
import { showBringing } from './bringing-part';
import { drawIntake, takesOf, type IntakeActions, type IntakeShown } from './intake-page';
import { base, isEmbedded, keepKey, ownHeaders, settleIn } from './embedded';
import './visitor.css';

const page = document.getElementById('page') as HTMLElement;
const ask = asker(base, ownHeaders);

let shown: IntakeShown = { door: null, problem: null, busy: false, code: null, isAway: false, done: null, faults: {} };
/** Answers of questions that were overtaken by a later one are dropped. */
let latest = 0;
let timer: ReturnType<typeof setTimeout> | undefined;

const sending = new Bringing(
  base,
  () => {
    if (!shown.door?.inside) return;
    showBringing(takesOf(shown.door.inside), sending.list);
    drawIntake(page, shown, sending.list, actions);
  },
  () => void arrived(),
  ownHeaders,
);
addEventListener('beforeunload', (e) => {
  if (sending.isBusy) e.preventDefault();
});

/** Begins before the first file is sent: a page that is only looked at leaves nothing behind. */
const bringing: BringActions = {
  bring: (files, into) => void begin({ password: null }).then((begun) => begun && sending.bring(files, into)),
  replace: () => undefined,
  decide: () => undefined,
  again: (id) => sending.again(id),
  stop: (id) => sending.stop(id),
  clear: () => sending.clear(),
};

const actions: IntakeActions = {
  bringing,
  open: (asked) => void begin(asked),
  sendCode: (asked) => void sendCode(asked),
  forgetCode: () => show({ code: null, problem: null }),
  // Within another page nobody can be signed in: that is done in a window of its own.
  signInUrl: isEmbedded ? base : base.replace(/\/h\/[^/]*$/, (intake) => `/sign-in?back=${encodeURIComponent(intake)}`),
  takeBack: (id) => void takeBack(id),
  handIn: (answers) => void handIn(answers),
  again: () => void look(),
  logoUrl: (version) => `${base}/logo?v=${version}`,
  markUrl: `${base.replace(/\/h\/[^/]*$/, '')}/mark.svg`,
  receiptUrl: (path) => `${base}/${path}`,
  elsewhere: isEmbedded ? { target: '_blank', rel: 'noreferrer' } : {},
};

function show(part: Partial<IntakeShown>): void {
  shown = { ...shown, ...part };
  drawIntake(page, shown, sending.list, actions);
}

/** Asks what may be shown now. */
async function look(): Promise<void> {
  latest += 1;
  const mine = latest;
  const found = await ask<IntakeDoor>('door');
  if (mine !== latest) return;
  if ('problem' in found) {
    // What is shown stays while the server cannot be asked: it goes on by itself.
    if (found.problem.code === AWAY.code && shown.door) show({ isAway: true });
    else show({ problem: found.problem, door: null, isAway: false });
    return;
  }
  show({ door: found.answer, isAway: false });
  if (isEmbedded && found.answer.embed) settleIn(found.answer.embed);
  wakeAtChange(found.answer);
}

/** What has arrived stands in the list of what is ready, and in that of what is on its way no more. */
async function arrived(): Promise<void> {
  await look();
  sending.clear();
}

/** The receipt whose link led here, to hand in more: it stands behind the address, and is sent to nobody else. */
const followed = (): string | null => new URLSearchParams(location.hash.slice(1)).get('follows');

/** @returns whether this browser may hand something in now */
async function begin(asked: ProofAsked & { password: string | null }): Promise<boolean> {
  latest += 1;
  show({ busy: true });
  const follows = followed();
  const found = await ask<BegunDeposit>('begin', {
    ...{ ...asked, ...(follows !== null && { follows }), ...(isEmbedded && { byPage: true }) },
  });
  if ('problem' in found) {
    show({ busy: false, problem: found.problem });
    return false;
  }
  const { key, ...door } = found.answer;
  if (key !== undefined) keepKey(key);
  show({ busy: false, problem: null, code: null, door, done: null });
  return true;
}

/** Has a code sent. Whether one is sent is told by nothing. */
async function sendCode(asked: { address: string; password: string | null }): Promise<void> {
  show({ busy: true });
  const found = await ask<CodeAsked>('code', asked);
  if ('answer' in found) show({ code: found.answer, problem: null, busy: false });
  else show({ problem: found.problem, busy: false });
}

async function takeBack(id: string): Promise<void> {
  const head = { 'Tus-Resumable': '1.0.0', ...ownHeaders() };
  const answer = await fetch(`${base}/uploads/${id}`, { method: 'DELETE', headers: head }).catch(() => null);
  show({ problem: answer?.ok ? null : AWAY });
  await look();
}

async function handIn(answers: IntakeAnswers): Promise<void> {
  show({ busy: true, problem: null, faults: {} });
  const found = await ask<HandedIn>('hand-in', answers);
  if ('problem' in found) {
    const { errors = [] } = found.problem;
    show({ busy: false, problem: found.problem, faults: Object.fromEntries(errors.map((e) => [e.field, e.detail])) });
    return;
  }
  show({ done: found.answer });
  await look();
  show({ busy: false });
}

/** Looks again when the window opens or closes, by the server's clock. */
function wakeAtChange(door: IntakeDoor): void {
  clearTimeout(timer);
  const ahead = Date.parse(door.now) - Date.now();
  const times = [door.opensAt, door.closesAt, door.inside?.finishBy ?? null]
    .filter((t): t is string => t !== null)
    .map((t) => Date.parse(t) - ahead - Date.now());
  const next = Math.min(...times.filter((ms) => ms > 0));
  // Timers hold 31 bits; a window further ahead is looked at again with the next change.
  if (next < 2 ** 31) timer = setTimeout(() => void look(), next + 300);
}

/** Changes of whoever asks are seen within so long. */
const ASK_MS = 10_000;
for (const change of ['online', 'offline']) addEventListener(change, () => void look());
setInterval(() => {
  if (document.visibilityState !== 'hidden' && shown.problem?.code !== 'intake.not-found' && !shown.busy) void look();
}, ASK_MS);

void look();
