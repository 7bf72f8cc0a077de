import type { ProblemBody } from '@quay/contract';
import { h, type Child } from './h';
import { problemWords, say, speech } from './words';

// What the pages of visitors and contributors are made of.

/** The visitor's own zone: closing times are theirs to keep. */
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

export const moment = (at: string, now: string): string => speech.moment(Date.parse(at), Date.parse(now), zone);

/** A field is one and the same through every drawing: what is being typed into it is never interrupted. */
export const fields = new Map<string, HTMLInputElement>();

export function field(id: string, attributes: Record<string, string>): HTMLInputElement {
  const there = fields.get(id);
  if (there) return there;
  const made = h('input', { id, name: id, required: '', ...attributes }) as HTMLInputElement;
  fields.set(id, made);
  return made;
}

export function passwordParts(): { input: HTMLInputElement; nodes: HTMLElement[] } {
  const input = field('password', { type: 'password', autocomplete: 'off' });
  const toggle = () => (input.type = input.type === 'password' ? 'text' : 'password');
  const show = { type: 'button', class: 'plain', 'aria-label': say('password.show-it'), onclick: toggle };
  return {
    input,
    nodes: [
      h('label', { for: 'password' }, say('password')),
      h('div', { class: 'reveal' }, input, h('button', show, say('password.show'))),
    ],
  };
}

export const faultOf = ({ problem }: { problem: Partial<ProblemBody> | null }): Child =>
  problem?.detail ? h('p', { class: 'fault', role: 'alert' }, problemWords(problem)) : null;

export const submit = (busy: boolean, words: string, going: string): HTMLElement =>
  h('button', { type: 'submit', class: 'main', ...(busy && { disabled: '' }) }, busy ? going : words);
