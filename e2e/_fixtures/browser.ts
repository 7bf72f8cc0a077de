import axe from 'axe-core';
import jsqr from 'jsqr';
import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PNG } from 'pngjs';
import puppeteer, {
  TimeoutError,
  type Browser,
  type BrowserContext,
  type ElementHandle,
  type Page,
} from 'puppeteer-core';
import { expect, inject } from 'vitest';
import { PASSWORDS, type Name } from '../../apps/server/src/_fixtures/office.js';

declare module 'vitest' {
  interface ProvidedContext {
    browser: string;
  }
}

const decodeQr = jsqr as unknown as (data: Uint8ClampedArray, width: number, height: number) => { data: string } | null;

/** The browser that all journeys of a run share (scripts/lib/test-browser.mjs); let go of with `disconnect`. */
export function launch(): Promise<Browser> {
  return puppeteer.connect({ browserWSEndpoint: inject('browser'), defaultViewport: { width: 1280, height: 800 } });
}

/** A machine that does much else at the time may stand still for half a minute. */
const LONGEST_WAIT_MS = 60_000;

/** A name of the office's own network (scripts/lib/test-browser.mjs): what is loaded by it is no secure context. */
export const LAN_NAME = 'quay.lan.test';

/** A browser of somebody's own: no cookies of others, errors fail the test, downloads go to a folder. */
export class Person {
  readonly errors: string[] = [];
  private constructor(
    readonly page: Page,
    readonly context: BrowserContext,
    readonly downloads: string,
    readonly origin: string,
  ) {}

  static async at(browser: Browser, origin: string): Promise<Person> {
    const context = await browser.createBrowserContext();
    // Where a page is no secure context there is nothing to permit.
    if (/^https:|\/\/(127\.0\.0\.1|localhost)/.test(origin))
      await context.overridePermissions(origin, ['clipboard-read', 'clipboard-write', 'clipboard-sanitized-write']);
    const page = await context.newPage();
    page.setDefaultTimeout(LONGEST_WAIT_MS);
    await page.emulateMediaFeatures([{ name: 'prefers-reduced-motion', value: 'reduce' }]);
    const downloads = mkdtempSync(join(tmpdir(), 'downloads-'));
    const person = new Person(page, context, downloads, origin);
    const session = await page.createCDPSession();
    await session.send('Browser.setDownloadBehavior', {
      behavior: 'allow',
      downloadPath: downloads,
      browserContextId: context.id,
    });
    page.on('pageerror', (error) => person.errors.push(String(error)));
    // Refusals are part of what is tested; broken policy or scripts are not.
    page.on(
      'console',
      (message) =>
        message.type() === 'error' &&
        !/Failed to load resource/.test(message.text()) &&
        person.errors.push(message.text()),
    );
    return person;
  }

  /** Opens a place as somebody who has signed in already. How that looks is a journey of its own (desk.test.ts). */
  async signIn(name: Name, path = '/today'): Promise<void> {
    // Only the browser knows that name.
    const answer = await fetch(`${this.origin.replace(LAN_NAME, '127.0.0.1')}/api/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ signInName: name, password: PASSWORDS[name] }),
    });
    const [pair = ''] = (answer.headers.getSetCookie()[0] ?? '').split(';');
    const [cookie, value] = pair.split('=');
    if (!answer.ok || !cookie || !value) throw new Error(`${name} could not sign in: ${await answer.text()}`);
    const { hostname } = new URL(this.origin);
    await this.context.setCookie({ name: cookie, value, domain: hostname, path: '/', httpOnly: true });
    await this.page.goto(this.origin + path);
    await this.page.waitForSelector('.bar');
  }

  async fill(selector: string, text: string): Promise<void> {
    await this.page.waitForSelector(selector);
    await this.page.click(selector, { count: 3 });
    // Three clicks choose a line: a text of several is chosen whole.
    await this.page.$eval(selector, (e) => e instanceof HTMLTextAreaElement && e.select());
    await this.page.keyboard.press('Backspace');
    await this.page.type(selector, text);
  }

  /**
   * Presses the button, link or row that bears these words, once it can be pressed and stands still. One that is drawn
   * anew meanwhile is looked for once more.
   */
  async press(words: string, within = 'body'): Promise<void> {
    try {
      await (await this.toPress(words, within)).asLocator().setTimeout(4000).click();
    } catch (error) {
      if (!(error instanceof TimeoutError)) throw error;
      await (await this.toPress(words, within)).asLocator().setTimeout(20_000).click();
    }
  }

  /** Opens a part of the slip that is folded. */
  async unfold(part: string): Promise<void> {
    const found = await this.page.waitForFunction(
      (name: string) =>
        [...document.querySelectorAll<HTMLElement>('.slip .part.folded button')].find(
          (e) => e.querySelector('.name')?.textContent === name,
        ),
      {},
      part,
    );
    await (found as ElementHandle<HTMLElement>).asLocator().click();
  }

  private async toPress(words: string, within: string): Promise<ElementHandle<HTMLElement>> {
    const found = await this.page
      .waitForFunction(
        (scope: string, name: string) =>
          [...document.querySelectorAll<HTMLElement>(scope)]
            .flatMap((part) => [
              ...part.querySelectorAll<HTMLElement>('button, a, input, label, summary, [role=menuitem]'),
            ])
            .find(
              (e) =>
                e.checkVisibility() &&
                !e.matches(':disabled') &&
                (e.getAttribute('aria-label') ?? e.textContent ?? '').replace(/\s+/g, ' ').trim() === name,
            ),
        { timeout: LONGEST_WAIT_MS, polling: 50 },
        within,
        words,
      )
      .catch(async () => {
        throw new Error(`there is no "${words}" to press in ${within}: ${(await this.text(within)).slice(0, 600)}`);
      });
    return found as ElementHandle<HTMLElement>;
  }

  /**
   * Presses an entry of a menu. What is above the menu may still grow, and then the first press opens none: it is pressed
   * once more.
   */
  async fromMenu(menu: string, entry: string, within = 'body'): Promise<void> {
    await this.press(menu, within);
    const open = await this.page.waitForSelector('.dropdown-menu.show', { timeout: 3000 }).catch(() => null);
    if (!open) await this.press(menu, within);
    await this.press(entry);
  }

  /** Waits until the page, or a part of it, says this. */
  async sees(words: string, selector = 'body'): Promise<void> {
    await this.page
      .waitForFunction(
        (s: string, w: string) =>
          [...document.querySelectorAll<HTMLElement>(s)].some((e) => (e.innerText ?? e.textContent ?? '').includes(w)),
        { timeout: LONGEST_WAIT_MS, polling: 50 },
        selector,
        words,
      )
      .catch(async () => {
        const there = (await this.text(selector)) || `nothing, on a page that says ${await this.text('body')}`;
        throw new Error(`"${words}" is not to be seen in ${selector}: ${there.slice(0, 1500)}`);
      });
  }

  text(selector: string): Promise<string> {
    return this.page.$$eval(selector, (elements) =>
      elements.map((e) => (e as HTMLElement).innerText ?? e.textContent ?? '').join('\n'),
    );
  }

  /** Waits for a download that is complete, and gives its bytes. */
  async downloaded(name: string): Promise<Buffer> {
    for (let i = 0; i < 600; i += 1) {
      if (readdirSync(this.downloads).includes(name)) return readFileSync(join(this.downloads, name));
      await new Promise((r) => setTimeout(r, 100));
    }
    throw new Error(`${name} was not downloaded; there is ${readdirSync(this.downloads).join(', ')}`);
  }

  /** On a busy machine a part's style or a font may still be on its way: what is judged without it is not the page. */
  async isStyled(): Promise<void> {
    await this.page.waitForFunction(() =>
      [...document.querySelectorAll<HTMLLinkElement>('link[rel=stylesheet]')].every((link) => link.sheet !== null),
    );
    await this.page.evaluate(() => document.fonts.ready.then(() => undefined));
  }

  /** WCAG 2.2 AA by axe-core: 0 violations on the page as it stands. */
  async isAccessible(): Promise<void> {
    await this.isStyled();
    // Evaluated through the debugger, so that the page's policy stays as strict as it is.
    await this.page.evaluate(axe.source);
    const found = await this.page.evaluate(async () => {
      const { violations } = await (window as unknown as { axe: typeof axe }).axe.run(document, {
        runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'],
      });
      return violations.map(
        (v) =>
          `${v.id}: ${v.nodes
            .map((n) => `${n.target.join(' ')} ${n.failureSummary ?? ''}`)
            .slice(0, 3)
            .join(' | ')}`,
      );
    });
    expect(found, this.page.url()).toEqual([]);
  }

  /** Chooses by its words what is offered in a list. */
  async choose(selector: string, words: string): Promise<void> {
    const found = await this.page
      .waitForFunction(
        (field: string, name: string) =>
          [...document.querySelectorAll<HTMLOptionElement>(`${field} option`)].find((o) => o.textContent === name),
        { timeout: LONGEST_WAIT_MS, polling: 50 },
        selector,
        words,
      )
      .catch(async () => {
        throw new Error(
          `there is no "${words}" to choose in ${selector}: ${(await this.text(selector)).slice(0, 600)}`,
        );
      });
    await this.page.select(selector, await (found as ElementHandle<HTMLOptionElement>).evaluate((o) => o.value));
  }

  /** What the QR code on the page says to a decoder of somebody else's (jsQR); null when it says nothing. */
  async readsQr(): Promise<string | null> {
    const picture = await ((await this.page.waitForSelector('.qr')) as ElementHandle).screenshot();
    const png = PNG.sync.read(Buffer.from(picture));
    return decodeQr(new Uint8ClampedArray(png.data), png.width, png.height)?.data ?? null;
  }

  async leave(): Promise<void> {
    expect(this.errors).toEqual([]);
    await this.context.close();
    rmSync(this.downloads, { recursive: true, force: true });
  }
}
