import type { VisitorContents, VisitorFile } from '@quay/contract';
import { previewKind } from '@quay/core';
import { h, type Child } from './h';
import type { Actions } from './page';
import { folderIn, nameIn, walk, type Inside, type View } from './walk';
import { exactBytes, filesOf, say, size } from './words';

interface ListShown {
  contents: VisitorContents;
  view: View;
}

/** From so many files on there is something to find. */
const FIND_FROM = 8;
const hasPicture = ({ path }: VisitorFile): boolean => ['image', 'pages'].includes(previewKind(path));
/** The files, and how they are looked at. */
export function filesPart(shown: ListShown, find: HTMLInputElement, actions: Actions): HTMLElement[] {
  const { contents, view } = shown;
  const wanted = view.find.trim().toLowerCase();
  const files = contents.files.filter((f) => f.path.toLowerCase().includes(wanted));
  const tools = toolsPart(contents, view, find, actions);
  const none = files.length === 0 ? [h('p', { class: 'quiet' }, say('find.none'))] : [];
  const walked = wanted === '' ? walk(contents.files, view.folder) : null;
  if (walked) {
    const { way, folders, here } = walked;
    const list = view.pictures ? picturesPart(here, shown, actions) : listPart(here, shown, actions);
    return [...tools, wayPart(way, actions), foldersPart(folders, actions), ...(here.length > 0 ? [list] : [])];
  }
  if (view.pictures) return [...tools, ...none, picturesPart(files, shown, actions)];
  const groups = grouped(files);
  const parts = groups.map(([folder, inside]) => folderPart(folder, inside, groups.length === 1, shown, actions));
  return [...tools, ...none, h('ul', { class: 'files' }, ...parts)];
}

/** The way to the folder that is looked into; each step of it leads back. */
function wayPart(way: readonly string[], actions: Actions): HTMLElement {
  const steps = way.map((path, at, all) => {
    const words = at === 0 ? say('walk.all') : nameIn(path);
    if (at === all.length - 1) return h('span', { 'aria-current': 'location' }, words);
    return h('button', { type: 'button', class: 'verb', id: `way-${at}`, onclick: () => actions.walk(path) }, words);
  });
  const parts = steps.flatMap((step, at) => (at === 0 ? [step] : [' / ', step]));
  const nav = h('nav', { class: 'way', 'aria-label': say('walk.way') });
  nav.append(...parts);
  return nav;
}

function foldersPart(folders: readonly Inside[], actions: Actions): HTMLElement {
  const rows = folders.map(({ name, path, count, sizeBytes }) =>
    h(
      'li',
      {},
      h('button', { type: 'button', class: 'verb folder', onclick: () => actions.walk(path) }, name),
      h('span', { class: 'quiet' }, filesOf(count)),
      h('span', { class: 'size', title: exactBytes(sizeBytes) }, size(sizeBytes)),
    ),
  );
  return h('ul', { class: 'files walked' }, ...rows);
}

function toolsPart({ files }: VisitorContents, view: View, find: HTMLInputElement, actions: Actions): HTMLElement[] {
  const parts: Child[] = [];
  if (files.length >= FIND_FROM) parts.push(find);
  if (files.some(hasPicture)) {
    const choice = (pictures: boolean, words: string) =>
      h(
        'button',
        {
          ...{ type: 'button', class: 'plain', id: pictures ? 'as-pictures' : 'as-list' },
          'aria-pressed': String(view.pictures === pictures),
          onclick: () => actions.showAs(pictures),
        },
        words,
      );
    parts.push(h('span', { class: 'as' }, choice(false, say('view.list')), choice(true, say('view.pictures'))));
  }
  return parts.length > 0 ? [h('div', { class: 'tools' }, ...parts)] : [];
}

/** Where there is more than one file, those that are given can be chosen. */
function chooser({ id, handing }: VisitorFile, name: string, contents: VisitorContents, view: View, actions: Actions) {
  const given = contents.files.filter((f) => f.handing !== 'withheld').length;
  if (given < 2) return null;
  const box = h('input', {
    ...{ type: 'checkbox', id: `choose-${id}`, 'aria-label': say('choose', { name }) },
    ...(handing === 'withheld' && { disabled: '' }),
  }) as HTMLInputElement;
  box.checked = view.chosen.includes(id);
  box.addEventListener('change', () => actions.choose(id, box.checked));
  return box;
}

/** Pictures are one and the same through every drawing: they are not fetched again. */
const thumbs = new Map<string, HTMLImageElement>();
const ASK_AGAIN_MS = 1500;
const ASKS_MOST = 40;

/** A small picture; it is asked for again while it is being made. */
function thumbOf(url: string): HTMLImageElement {
  const there = thumbs.get(url);
  if (there) return there;
  const image = h('img', { src: url, alt: '', loading: 'lazy', draggable: 'false' }) as HTMLImageElement;
  let asks = 0;
  image.addEventListener('error', () => {
    asks += 1;
    if (asks < ASKS_MOST) setTimeout(() => (image.src = `${url}?again=${asks}`), ASK_AGAIN_MS);
    else image.hidden = true;
  });
  thumbs.set(url, image);
  return image;
}

function picturesPart(files: VisitorFile[], { contents, view }: ListShown, actions: Actions): HTMLElement {
  const urls = new Set(contents.files.map((f) => `${actions.fileUrl(f.id)}/thumb`));
  for (const url of thumbs.keys()) if (!urls.has(url)) thumbs.delete(url);
  const tile = (f: VisitorFile) => {
    const name = nameIn(f.path);
    const picture = hasPicture(f)
      ? h(
          'button',
          {
            ...{ type: 'button', class: 'thumb', 'aria-label': say('look.at', { name }) },
            onclick: () => actions.look(f.id),
          },
          thumbOf(`${actions.fileUrl(f.id)}/thumb`),
        )
      : h('span', { class: 'thumb kind' }, name.slice(name.lastIndexOf('.') + 1).slice(0, 6));
    const label = h('span', { class: 'label' }, chooser(f, name, contents, view, actions), nameOf(f, name, actions));
    return h('li', {}, picture, label);
  };
  return h('ul', { class: 'pictures' }, ...files.map(tile));
}

/** The name of a file, by which it is taken where it may be. */
function nameOf({ id, sha256, handing }: VisitorFile, name: string, actions: Actions): HTMLElement {
  if (handing === 'withheld') return h('span', {}, name);
  // The checksum is of the file as it is.
  const title = handing === 'plain' ? `SHA-256 ${sha256}` : say('marked.copy');
  return h('a', { href: actions.fileUrl(id), download: name, title }, name);
}

/** Files by the folder they lie in, in the order they came. */
function grouped(files: VisitorFile[]): [string, VisitorFile[]][] {
  const groups = new Map<string, VisitorFile[]>();
  for (const file of files) {
    const folder = folderIn(file.path);
    const group = groups.get(folder);
    if (group) group.push(file);
    else groups.set(folder, [file]);
  }
  return [...groups];
}

/** Whether there is something to show: sound and film are the file itself, and so are texts where nothing is marked. */
function canBeLookedAt({ path, handing }: VisitorFile, { markedFor }: VisitorContents): boolean {
  const kind = previewKind(path);
  if (kind === 'image' || kind === 'pages') return true;
  return kind !== 'none' && (handing === 'plain' || ((kind === 'text' || kind === 'table') && markedFor !== null));
}

/** What can be done with a file besides taking it. */
function fileVerbs(file: VisitorFile, folder: string, contents: VisitorContents, actions: Actions): HTMLElement[] {
  const name = nameIn(file.path);
  const place = contents.places.find((p) => p.path === folder);
  const verbs: HTMLElement[] = [];
  if (file.mayReplace) {
    const input = h('input', {
      type: 'file',
      class: 'file',
      'aria-label': say('replace.it', { name }),
    }) as HTMLInputElement;
    input.addEventListener('change', () => {
      const [chosen] = input.files ?? [];
      // Where its folder is not shared, it is replaced by itself.
      const where = place ? { folderId: place.id } : { replaces: file.id };
      if (chosen) actions.bringing.replace(chosen, { ...where, name, sha256: file.sha256 });
    });
    verbs.push(h('label', { class: 'verb' }, say('replace'), input));
  }
  if (file.own)
    verbs.push(
      h(
        'button',
        {
          ...{ type: 'button', class: 'verb', 'aria-label': say('take-back.it', { name }) },
          onclick: () => actions.takeBack(file.id),
        },
        say('take-back'),
      ),
    );
  return verbs;
}

/** Folders as somebody has opened or closed them, through every drawing. */
const unfolded = new Map<string, boolean>();

/** The files of one folder. */
function listPart(files: VisitorFile[], shown: ListShown, actions: Actions): HTMLElement {
  return h('ul', { class: 'files' }, h('li', {}, h('ul', {}, ...rowsOf(files, shown, actions))));
}

function rowsOf(files: VisitorFile[], { contents, view }: ListShown, actions: Actions): HTMLElement[] {
  return files.map((f) => {
    const name = nameIn(f.path);
    return h(
      'li',
      {},
      chooser(f, name, contents, view, actions),
      nameOf(f, name, actions),
      canBeLookedAt(f, contents)
        ? h(
            'button',
            {
              type: 'button',
              class: 'verb',
              'aria-label': say('look.at', { name }),
              onclick: () => actions.look(f.id),
            },
            say('look'),
          )
        : null,
      ...fileVerbs(f, folderIn(f.path), contents, actions),
      h('span', { class: 'size', title: exactBytes(f.sizeBytes) }, size(f.sizeBytes)),
    );
  });
}

function folderPart(
  folder: string,
  files: VisitorFile[],
  only: boolean,
  shown: ListShown,
  actions: Actions,
): HTMLElement {
  const rows = rowsOf(files, shown, actions);
  if (folder === '') return h('li', {}, h('ul', {}, ...rows));
  const isOpen = unfolded.get(folder) ?? (only || files.length <= 12);
  const details = h(
    'details',
    isOpen ? { open: '' } : {},
    h('summary', {}, folder.split('/').join(' / '), h('span', { class: 'quiet' }, ` ${filesOf(files.length)}`)),
    h('ul', {}, ...rows),
  ) as HTMLDetailsElement;
  details.addEventListener('toggle', () => unfolded.set(folder, details.open));
  return h('li', {}, details);
}
