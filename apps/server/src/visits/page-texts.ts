import { languageFor, speechOf, type Speech, type Texts } from '@quay/core';
import type { Request, Response } from 'express';
import { readdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { Office } from '../platform/office.js';
import { notFound } from '../platform/problems/problem.js';

/** The language that every other is filled up from. */
const FIRST = 'en';

interface Language {
  speech: Speech;
  texts: Texts;
}

/**
 * The visitor's page in the languages that there are texts in: the files of the folder `texts`, one for each language,
 * to which anybody can add.
 */
export class PageTexts {
  private read: Promise<{ template: string; languages: Map<string, Language> }> | null = null;

  /** @param page the file that the texts go into */
  constructor(
    private readonly webRoot: string,
    private readonly file = 'visitor.html',
  ) {}

  /**
   * The page, with its texts in it.
   * @param accepted Accept-Language, as the browser sent it
   * @param up from the page's path to the root of the office
   */
  async page(accepted: string, up: string): Promise<string> {
    const { template, languages } = await this.all();
    const { speech, texts } = chosen(languages, accepted);
    // What is no script is not run; nothing in it can end it. A page has the texts that it says.
    const isIntake = this.file === 'intake.html';
    const own = Object.entries(texts).filter(([key]) => isIntake || !/^(problem\.)?(intake|receipt)\./.test(key));
    const data = JSON.stringify(Object.fromEntries(own)).replaceAll('<', '\\u003c');
    return template
      .replace(/(src|href)="\//g, `$1="${up}`)
      .replace('<html lang="en">', `<html lang="${speech.language}">`)
      .replace('</head>', () => `<script type="application/json" id="texts">${data}</script></head>`)
      .replace('%plain%', speech.say('plain'));
  }

  async speech(accepted: string): Promise<Speech> {
    return chosen((await this.all()).languages, accepted).speech;
  }

  /** The languages that there are texts in, as tags (BCP 47). */
  async tags(): Promise<string[]> {
    return [...(await this.all()).languages.keys()];
  }

  /** Where the page's styles are, from the root of the office. */
  async styles(): Promise<string[]> {
    const { template } = await this.all();
    return [...template.matchAll(/<link rel="stylesheet"[^>]* href="\/([^"]+)"/g)].map(([, href]) => href as string);
  }

  private all(): NonNullable<typeof this.read> {
    this.read ??= this.readAll().catch((error: unknown) => {
      this.read = null;
      throw error;
    });
    return this.read;
  }

  private async readAll(): Promise<{ template: string; languages: Map<string, Language> }> {
    const folder = join(this.webRoot, 'texts');
    const names = (await readdir(folder)).filter((name) => /^[a-zA-Z]{2,3}(-[a-zA-Z0-9]{1,8})*\.json$/.test(name));
    const tags = names.map((name) => name.replace(/\.json$/, '')).sort((a, b) => +(b === FIRST) - +(a === FIRST));
    const textsOf = async (tag: string) => JSON.parse(await readFile(join(folder, `${tag}.json`), 'utf8')) as Texts;
    const first = await textsOf(FIRST);
    const languages = new Map<string, Language>();
    for (const tag of tags) {
      const texts = { ...first, ...(await textsOf(tag)) };
      languages.set(tag, { texts, speech: speechOf(tag, texts) });
    }
    return { template: await readFile(join(this.webRoot, this.file), 'utf8'), languages };
  }
}

/** Sends the logo of the office. @throws Problem not-found */
export async function sendLogo(office: Office, req: Request, res: Response): Promise<void> {
  const logo = await office.logo();
  if (!logo) throw notFound('A logo');
  // Asked for by its version, it never changes.
  if (req.query['v'] === logo.version) res.setHeader('Cache-Control', 'private, max-age=31536000, immutable');
  res.type('png').send(logo.png);
}

const chosen = (languages: Map<string, Language>, accepted: string): Language =>
  languages.get(languageFor(accepted, [...languages.keys()])) as Language;
