import type { FileText, PreviewFacts, ProblemBody, VisitorFile } from '@quay/contract';
import { readDelimited } from '../delimited';
import { h, type Child } from './h';
import { say, size } from './words';

/** What the viewer needs of the page. */
export interface ViewerSource {
  /** Files in the order they are shown, as they are now. */
  files: () => readonly VisitorFile[];
  /** Everything of one file: "files/ID". */
  urlOf: (id: string) => string;
  /** Where it is told how a file can be looked at. */
  factsOf: (id: string) => string;
}

const AWAY = say('away.viewer');
/** Asked again for so long while a picture is being made. */
const MAKING_MS = 60_000;
const SWIPE_PX = 50;
const NOT_SHOWN = say('viewer.not-shown');

/** Looks at files one after the other: pictures with zoom, documents page by page, text, sound and film. */
export class Viewer {
  private readonly dialog = h('dialog', { class: 'viewer', 'aria-label': 'File', tabindex: '-1' }) as HTMLDialogElement;
  private readonly body = h('div', { class: 'shown' });
  private readonly title = h('h2', { id: 'viewer-title' });
  private readonly count = h('span', { class: 'quiet' });
  private at = '';
  private page = 1;
  private pages: number | null = null;
  /** Rises with each file and page, so that what comes late is dropped. */
  private turn = 0;

  constructor(private readonly source: ViewerSource) {
    const press = (verb: string, act: () => void, key: string) =>
      h(
        'button',
        { type: 'button', class: 'plain', 'aria-label': say('viewer.press', { verb, key }), onclick: act },
        verb,
      );
    this.dialog.append(
      h(
        'header',
        {},
        this.title,
        this.count,
        press(say('viewer.previous'), () => this.step(-1), '←'),
        press(say('viewer.next'), () => this.step(1), '→'),
        press(say('viewer.close'), () => this.dialog.close(), 'Esc'),
      ),
      this.body,
    );
    this.dialog.addEventListener('keydown', (e) => this.onKey(e));
    this.dialog.addEventListener('close', () => this.leave());
    this.body.addEventListener('pointerdown', (down) => this.swipe(down));
    document.body.append(this.dialog);
  }

  show(id: string): void {
    this.at = id;
    this.page = 1;
    this.pages = null;
    if (!this.dialog.open) this.dialog.showModal();
    this.draw().catch(() => this.say(AWAY));
  }

  /** The files have changed: what is shown may be gone. */
  refresh(): void {
    if (this.dialog.open && !this.file()) this.dialog.close();
  }

  private leave(): void {
    this.turn += 1;
    this.body.replaceChildren();
  }

  private file(): VisitorFile | undefined {
    return this.source.files().find((f) => f.id === this.at);
  }

  private step(by: number): void {
    // Pages first, then the next file.
    const page = this.page + by;
    if (this.pages !== null && page >= 1 && page <= this.pages) {
      this.page = page;
      this.draw().catch(() => this.say(AWAY));
      return;
    }
    const files = this.source.files();
    const next = files[files.findIndex((f) => f.id === this.at) + by];
    if (next) this.show(next.id);
  }

  private onKey(e: KeyboardEvent): void {
    const steps: Record<string, number> = { ArrowRight: 1, ArrowLeft: -1, PageDown: 1, PageUp: -1 };
    const by = steps[e.key];
    if (by === undefined || e.target instanceof HTMLMediaElement) return;
    e.preventDefault();
    this.step(by);
  }

  private swipe(down: PointerEvent): void {
    if (down.pointerType === 'mouse') return;
    this.body.addEventListener(
      'pointerup',
      (up) => {
        const moved = up.clientX - down.clientX;
        if (Math.abs(moved) > SWIPE_PX) this.step(moved < 0 ? 1 : -1);
      },
      { once: true },
    );
  }

  private async draw(): Promise<void> {
    const file = this.file();
    if (!file) return;
    this.turn += 1;
    const mine = this.turn;
    const name = file.path.slice(file.path.lastIndexOf('/') + 1);
    this.title.textContent = name;
    this.dialog.setAttribute('aria-label', name);
    this.sayWhich(file);
    this.say(say('wait'));
    const lookUrl = this.source.factsOf(file.id);
    const isWanted = () => mine === this.turn;
    const facts = await ask<PreviewFacts>(lookUrl);
    if (!isWanted()) return;
    if (!facts) return this.say(AWAY);
    const part = await this.partOf(file, facts, isWanted);
    // How many pages there are is known once one of them has been made.
    const pages = facts.kind === 'pages' ? (facts.pages ?? (await ask<PreviewFacts>(lookUrl))?.pages) : null;
    if (!isWanted()) return;
    this.pages = pages ?? null;
    this.sayWhich(file);
    this.replace(part);
  }

  private sayWhich(file: VisitorFile): void {
    const files = this.source.files();
    const at = files.indexOf(file) + 1;
    const which = say('viewer.which', { at, count: files.length, size: size(file.sizeBytes) });
    const { page, pages } = this;
    this.count.textContent = pages === null ? which : say('viewer.page', { which, page, pages });
  }

  /** Keys are heard whatever was in hand before. */
  private replace(part: HTMLElement): void {
    this.body.replaceChildren(part);
    if (!this.dialog.contains(document.activeElement)) this.dialog.focus();
  }

  private async partOf(file: VisitorFile, { kind }: PreviewFacts, wanted: () => boolean): Promise<HTMLElement> {
    const url = this.source.urlOf(file.id);
    switch (kind) {
      case 'image':
        return this.picture(`${url}/large`, file.path, wanted);
      case 'pages':
        return this.picture(
          `${url}/pages/${this.page}`,
          say('viewer.page-of', { name: file.path, page: this.page }),
          wanted,
        );
      case 'table':
        return file.handing === 'plain' ? tablePart(await ask<FileText>(`${url}/text`), file.path) : words(NOT_SHOWN);
      case 'text':
        return file.handing === 'plain' ? textPart(await ask<FileText>(`${url}/text`)) : words(NOT_SHOWN);
      case 'audio':
      case 'video':
        return file.handing === 'plain' ? mediaPart(kind, `${url}?show=1`) : words(NOT_SHOWN);
      case 'none':
        return words(say('viewer.none'));
    }
  }

  /** A picture, once it is made; pressing it shows it in its own size. */
  private async picture(url: string, alt: string, wanted: () => boolean): Promise<HTMLElement> {
    for (const until = Date.now() + MAKING_MS; Date.now() < until && wanted();) {
      const response = await fetch(url).catch(() => null);
      if (response?.status === 200) {
        // It is at hand then: the page's policy lets pictures come from the server alone.
        await response.blob();
        return pictureOf(url, alt);
      }
      if (response?.status !== 202) break;
      await new Promise((resolve) => setTimeout(resolve, 1000));
    }
    return words(say('viewer.none'));
  }

  private say(text: string): void {
    this.replace(words(text));
  }
}

function pictureOf(src: string, alt: string): HTMLElement {
  const image = h('img', { src, alt, draggable: 'false' });
  const button = h('button', {
    type: 'button',
    class: 'picture',
    'aria-label': say('viewer.own-size', { name: alt }),
    'aria-pressed': 'false',
    onclick: () => {
      const large = button.classList.toggle('large');
      button.setAttribute('aria-pressed', String(large));
    },
  });
  button.append(image);
  return button;
}

function mediaPart(kind: 'audio' | 'video', src: string): HTMLElement {
  const media = h(kind, { controls: '', preload: 'metadata', src });
  const box = h('div', {}, media);
  media.addEventListener('error', () => box.replaceChildren(words(say('viewer.not-played'))));
  return box;
}

function textPart(text: FileText | null): HTMLElement {
  if (!text) return words(say('viewer.no-text'));
  const more: Child = text.truncated ? h('p', { class: 'quiet' }, say('viewer.beginning')) : null;
  return h('div', { class: 'text', tabindex: '0' }, h('pre', {}, text.text), more);
}

function tablePart(text: FileText | null, name: string): HTMLElement {
  if (!text) return words(say('viewer.no-text'));
  const { head, body, isNumber, isWhole } = readDelimited(text.text, name);
  const cells = (tag: 'th' | 'td', row: readonly string[]) =>
    row.map((cell, at) => h(tag, isNumber[at] ? { class: 'number' } : {}, cell));
  return h(
    'div',
    { class: 'text', tabindex: '0' },
    text.truncated || !isWhole ? h('p', { class: 'quiet' }, say('viewer.beginning')) : null,
    h(
      'table',
      {},
      h('thead', {}, h('tr', {}, ...cells('th', head))),
      h('tbody', {}, ...body.map((row) => h('tr', {}, ...cells('td', row)))),
    ),
  );
}

const words = (text: string): HTMLElement => h('p', { class: 'quiet' }, text);

async function ask<Answer>(url: string): Promise<Answer | null> {
  const response = await fetch(url).catch(() => null);
  if (!response?.ok) return null;
  return (await response.json().catch(() => null)) as (Answer & Partial<ProblemBody>) | null;
}
