import type { VisitorContents, VisitorPlace } from '@quay/contract';
import type { BringActions, Brought } from './bringing';
import { collect } from '../collect';
import { h } from './h';
import { say, size } from './words';

/** What is asked about what may be brought. */
export type Takes = Pick<VisitorContents, 'places' | 'takesBytes' | 'level'> & {
  /** Pictures may be taken for it, where there is a camera at hand. */
  takesPictures?: boolean;
};

/** Where files are brought: one and the same through every drawing, so that nothing that is dropped is lost. */
let area: { element: HTMLElement; show: (contents: Takes, list: readonly Brought[]) => void } | null = null;

/** The part of the page at which files are brought, and what is on its way; null where nothing may be brought. */
export function bringingPart(contents: Takes, list: readonly Brought[], actions: BringActions): HTMLElement | null {
  if (contents.takesBytes === null && list.length === 0) return null;
  area ??= makeArea(actions);
  area.show(contents, list);
  return area.element;
}

/** Draws anew what is on its way, and nothing else of the page. */
export function showBringing(contents: Takes, list: readonly Brought[]): void {
  area?.show(contents, list);
}

const fileInput = (attributes: Record<string, string>): HTMLInputElement =>
  h('input', { type: 'file', class: 'file', ...attributes }) as HTMLInputElement;

function makeArea(actions: BringActions): NonNullable<typeof area> {
  const select = h('select', { id: 'place' }) as HTMLSelectElement;
  const place = h('span', { class: 'into' }, h('label', { for: 'place' }, say('bring.into')), select);
  const input = fileInput({ id: 'bring', multiple: '' });
  const folder = fileInput({ id: 'bring-folder', webkitdirectory: '' });
  // Telephones and tablets open their camera by it; elsewhere it would be one more way to choose a file.
  const camera = fileInput({ id: 'bring-picture', accept: 'image/*', capture: 'environment' });
  const shoot = h('label', { class: 'choose' }, say('bring.camera'), camera);
  const hasCamera = matchMedia('(pointer: coarse)').matches;
  const take = (event: Event) => {
    const into = select.value;
    if (!into) return;
    unread.hidden = true;
    collect(event).then(
      (found) => found.length > 0 && actions.bring(found, into),
      () => (unread.hidden = false),
    );
  };
  for (const field of [input, folder, camera])
    field.addEventListener('change', (event) => {
      take(event);
      field.value = '';
    });
  const words = h('p', { class: 'quiet' });
  const unread = h('p', { class: 'fault', role: 'alert', hidden: '' }, say('bring.unread'));
  const drop = h(
    'div',
    { class: 'drop' },
    h('span', {}, say('bring.drop')),
    h('label', { class: 'choose' }, say('bring.choose'), input),
    h('label', { class: 'choose' }, say('bring.choose-folder'), folder),
    shoot,
    place,
    words,
    unread,
  );
  drop.addEventListener('dragover', (e) => {
    e.preventDefault();
    drop.classList.add('over');
  });
  drop.addEventListener('dragleave', () => drop.classList.remove('over'));
  drop.addEventListener('drop', (e) => {
    e.preventDefault();
    drop.classList.remove('over');
    take(e);
  });
  const rows = h('ul', { class: 'bringing', 'aria-label': say('bring.list') });
  const closed = h('p', { class: 'quiet' }, say('bring.closed'));
  const element = h('section', { 'aria-label': say('bring') }, drop, closed, rows);
  return {
    element,
    show: ({ places, takesBytes, level, takesPictures = false }, list) => {
      const takes = takesBytes !== null && places.length > 0;
      drop.hidden = !takes;
      shoot.hidden = !(takesPictures && hasCamera);
      closed.hidden = takesBytes !== null;
      offer(select, places);
      place.hidden = places.length < 2;
      words.textContent = takes ? say('bring.room', { size: size(takesBytes) }) : '';
      rows.replaceChildren(...list.map((item) => row(item, level === 'edit', actions)));
      if (list.some((i) => i.state === 'here' || i.state === 'stopped'))
        rows.append(
          h(
            'li',
            {},
            h('button', { type: 'button', class: 'plain', onclick: actions.clear.bind(actions) }, say('bring.clear')),
          ),
        );
    },
  };
}

/** The folders to choose from; what is chosen stays so while it is there. */
function offer(select: HTMLSelectElement, places: readonly VisitorPlace[]): void {
  const shown = [...select.options].map((o) => `${o.value} ${o.text}`).join('\n');
  const next = places.map((p) => `${p.id} ${p.path.split('/').join(' / ')}`).join('\n');
  if (shown === next) return;
  const { value } = select;
  select.replaceChildren(...places.map((p) => h('option', { value: p.id }, p.path.split('/').join(' / '))));
  if (places.some((p) => p.id === value)) select.value = value;
}

const STATES: Record<Brought['state'], string> = {
  waiting: say('bring.waiting'),
  sending: '',
  here: say('bring.here'),
  asks: '',
  failed: '',
  stopped: say('bring.stopped'),
};

function row(item: Brought, mayReplace: boolean, actions: BringActions): HTMLElement {
  const { id, name, file, sentBytes, state, words } = item;
  const press = (text: string, act: () => void) =>
    h(
      'button',
      { type: 'button', class: 'plain', onclick: act, 'aria-label': say('bring.it', { verb: text, name }) },
      text,
    );
  const verbs: Record<Brought['state'], HTMLElement[]> = {
    waiting: [press(say('bring.stop'), () => actions.stop(id))],
    sending: [press(say('bring.stop'), () => actions.stop(id))],
    here: [],
    asks: [
      // What replaces one file is kept beside none.
      ...(item.replaces ? [] : [press(say('bring.keep-both'), () => actions.decide(id, 'keep-both'))]),
      ...(mayReplace ? [press(say('bring.over'), () => actions.decide(id, 'version'))] : []),
      press(say('bring.stop'), () => actions.stop(id)),
    ],
    failed: [press(say('bring.again'), () => actions.again(id)), press(say('bring.stop'), () => actions.stop(id))],
    stopped: [],
  };
  const said =
    state === 'sending' ? say('bring.sending', { sent: size(sentBytes), size: size(file.size) }) : STATES[state];
  return h(
    'li',
    { 'data-state': state },
    h('span', { class: 'name' }, item.path ? `${item.path}/${name}` : name),
    h('span', { class: 'size' }, said),
    state === 'sending'
      ? h('progress', {
          max: String(Math.max(1, file.size)),
          value: String(sentBytes),
          'aria-label': say('bring.sending-it', { name }),
        })
      : null,
    words ? h('p', { class: 'fault', role: 'alert' }, words) : null,
    ...verbs[state],
  );
}
