import type { CodeAsked, ProblemBody, ProofAsked } from '@quay/contract';
import { h, type Child } from './h';
import { faultOf, field, passwordParts, submit } from './parts';
import { say } from './words';

// What is wanted of somebody before they are let in: a password, a code, or that they sign in.

export interface Wanted {
  needsPassword: boolean;
  needsCode: boolean;
  /** Codes are sent to telephones as well. */
  takesNumbers: boolean;
}

export interface ProofShown {
  problem: Partial<ProblemBody> | null;
  busy: boolean;
  /** Where a code was asked for. */
  code: CodeAsked | null;
}

export interface ProofActions {
  open: (asked: ProofAsked & { password: string | null }) => void;
  sendCode: (asked: { address: string; password: string | null }) => void;
  /** Asks for a code for another address. */
  forgetCode: () => void;
}

export interface ProofWords {
  press: string;
  busy: string;
  /** What is said below it. */
  below?: Child;
}

/** The form that lets somebody in: first where a code goes, if one is wanted. */
export function proofPart(wanted: Wanted, shown: ProofShown, words: ProofWords, actions: ProofActions): HTMLElement {
  return wanted.needsCode && !shown.code ? askingCode(wanted, shown, actions) : entering(wanted, shown, words, actions);
}

/** The way to where people of the office and its guests sign in; they come back here. */
export function signingIn(words: string, href: string, more: Record<string, string> = {}): HTMLElement {
  return h('section', {}, h('p', {}, words), h('a', { class: 'main', href, ...more }, say('sign-in.press')));
}

/** First of two steps: where the code goes. */
function askingCode({ takesNumbers, needsPassword }: Wanted, shown: ProofShown, actions: ProofActions): HTMLElement {
  const kind = takesNumbers ? { type: 'text', autocomplete: 'on' } : { type: 'email', autocomplete: 'email' };
  const address = field('address', kind);
  const password = needsPassword ? passwordParts() : null;
  return h(
    'form',
    {
      onsubmit: (e: Event) => {
        e.preventDefault();
        actions.sendCode({ address: address.value, password: password?.input.value ?? null });
      },
    },
    h('p', {}, say(takesNumbers ? 'code.why-number' : 'code.why')),
    ...(password?.nodes ?? []),
    h('label', { for: 'address' }, say(takesNumbers ? 'code.address-number' : 'code.address')),
    h('div', { class: 'reveal' }, address),
    faultOf(shown),
    submit(shown.busy, say('code.send'), say('code.sending')),
  );
}

/** The password, or the code that was sent; whatever is asked for. */
function entering(
  { needsPassword }: Wanted,
  shown: ProofShown,
  { press, busy, below = null }: ProofWords,
  actions: ProofActions,
): HTMLElement {
  const { code } = shown;
  const password = needsPassword ? passwordParts() : null;
  const digits = code ? field('code', { inputmode: 'numeric', autocomplete: 'one-time-code', maxlength: '7' }) : null;
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
    submit(shown.busy, press, busy),
    code ? h('button', { type: 'button', class: 'plain', onclick: actions.forgetCode }, say('code.another')) : null,
    below,
  );
}

function codeParts(code: CodeAsked, digits: HTMLInputElement): HTMLElement[] {
  return [
    h('p', {}, say('code.sent', { address: code.address, minutes: code.minutes })),
    h('label', { for: 'code' }, say('code.typed')),
    h('div', { class: 'reveal' }, digits),
  ];
}
