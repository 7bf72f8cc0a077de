import { Body, Controller, Get, HttpCode, Inject, Param, Post, Req, Res } from '@nestjs/common';
import { beginDepositSchema, handInSchema, PROBLEM_STATUS, type BeginDeposit, type CodeAsked } from '@quay/contract';
import { CODE_LIFETIME_MS, CONTRIBUTOR_KNOWN_SECONDS, type IntakeAnswers } from '@quay/core';
import type { Request, Response } from 'express';
import { prefixOf } from '../platform/client-address.js';
import { CONFIG, type Config } from '../platform/config.js';
import { setCookie } from '../platform/cookies.js';
import { For } from '../platform/for.js';
import { takeFormFile, type FormFile } from '../platform/form-file.js';
import { Office } from '../platform/office.js';
import { ApiPart, Operation } from '../platform/openapi.js';
import { Problem } from '../platform/problems/problem.js';
import { PageTexts } from '../visits/page-texts.js';
import { proofIn, type PlainForm } from '../visits/plain-parts.js';
import { contributorOf, DEPOSIT_COOKIE } from './contributor.js';
import { DepositUploads } from './deposit-uploads.service.js';
import { IntakeDoorService, type Contributor } from './door.service.js';
import { HandingInService } from './handing-in.service.js';
import { plainIntakePage } from './plain-intake-page.js';

interface Said {
  problem?: Problem;
  sent?: CodeAsked | null;
  answers?: IntakeAnswers;
}

/** The page of an intake for browsers without script: every press leads back to it. */
@ApiPart('contributor')
@Controller('h/:token/plain')
export class PlainIntakeController {
  private readonly texts: PageTexts;

  constructor(
    private readonly doors: IntakeDoorService,
    private readonly uploads: DepositUploads,
    private readonly handing: HandingInService,
    private readonly office: Office,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    this.texts = new PageTexts(config.webRoot ?? '.', 'intake.html');
  }

  @Get()
  @For('link')
  @Operation('The page on which files are handed in, for browsers without script')
  page(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    return this.show(contributorOf(token, req), req, res);
  }

  @Post()
  @For('link')
  @HttpCode(200)
  @Operation('Begin in a browser without script: has a code sent, or begins and leads back to the page')
  async begin(
    @Param('token') token: string,
    @Body() typed: PlainForm | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const contributor = contributorOf(token, req);
    const { value, error } = beginDepositSchema.validate({ password: typed?.password ?? null, ...proofIn(typed) });
    const asked = value as BeginDeposit;
    const { address, ticket } = asked;
    // Where a code was asked for, its form is shown again.
    const sent = address && ticket ? { address, ticket, minutes: CODE_LIFETIME_MS / 60_000 } : null;
    await this.leadBack(contributor, req, res, { sent }, async () => {
      if (error) throw new Problem('invalid', 'intake.wrong-code', 'That is not the password, or not the code.');
      if (address !== undefined && asked.code === undefined) {
        const { password } = asked;
        await this.show(contributor, req, res, { sent: await this.doors.sendCode(contributor, { address, password }) });
        return;
      }
      await this.beginIn(contributor, asked, req, res);
    });
  }

  @Post('files')
  @For('link')
  @HttpCode(200)
  @Operation('Hand one file in from a form (RFC 7578), and lead back to the page')
  async bring(@Param('token') token: string, @Req() req: Request, @Res() res: Response): Promise<void> {
    const contributor = contributorOf(token, req);
    await this.leadBack(contributor, req, res, {}, async () => {
      const known = await this.beginIn(contributor, { password: null }, req, res);
      await takeFormFile(req, this.config.pace, (file, stream) =>
        this.uploads.bringWhole(known, sizesOf(req, file), stream),
      );
    });
  }

  @Post('take-back')
  @For('link')
  @HttpCode(200)
  @Operation('Take a file back that was not handed in yet, from the page without script')
  async takeBack(
    @Param('token') token: string,
    @Body() typed: { id?: unknown } | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const contributor = contributorOf(token, req);
    await this.leadBack(contributor, req, res, {}, () => this.uploads.drop(contributor, String(typed?.id ?? '')));
  }

  @Post('hand-in')
  @For('link')
  @HttpCode(200)
  @Operation('Hand in what has arrived, from the page without script; leads to the receipt')
  async handIn(
    @Param('token') token: string,
    @Body() typed: Record<string, unknown> | undefined,
    @Req() req: Request,
    @Res() res: Response,
  ): Promise<void> {
    const contributor = contributorOf(token, req);
    const { value, error } = handInSchema.validate(answersIn(typed ?? {}));
    const answers = value as IntakeAnswers;
    await this.leadBack(contributor, req, res, error ? {} : { answers }, async () => {
      if (error) throw new Problem('invalid', 'answer.missing', 'An answer is too long.');
      const { path } = await this.handing.handIn(contributor, answers);
      res.redirect(303, `../${path}`);
    });
  }

  /** Does something and leads back to the page, looked at anew; what is refused is said on it. */
  private async leadBack(
    contributor: Contributor,
    req: Request,
    res: Response,
    said: Said,
    work: () => Promise<unknown>,
  ): Promise<void> {
    try {
      await work();
      if (res.headersSent) return;
      res.redirect(303, `${prefixOf(req)}/h/${contributor.token}/plain`);
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      await this.show(contributor, req, res, { ...said, problem: error });
    }
  }

  /** @returns the contributor with what they are known by from now on */
  private async beginIn(
    contributor: Contributor,
    asked: BeginDeposit,
    req: Request,
    res: Response,
  ): Promise<Contributor> {
    const cookie = await this.doors.begin(contributor, asked);
    if (cookie === null) return contributor;
    const path = `${prefixOf(req)}/h/${contributor.token}`;
    const about = { path, maxAgeSeconds: CONTRIBUTOR_KNOWN_SECONDS, secure: req.secure };
    res.setHeader('Set-Cookie', setCookie(DEPOSIT_COOKIE, cookie, about));
    return { ...contributor, cookie };
  }

  private async show(
    contributor: Contributor,
    req: Request,
    res: Response,
    { problem, sent = null, answers }: Said = {},
  ): Promise<void> {
    const found = await this.doors.look(contributor).catch((error: unknown) => {
      if (error instanceof Problem) return error;
      throw error;
    });
    const door = found instanceof Problem ? null : found;
    const wrong = problem ?? (found instanceof Problem ? found : null);
    const speech = await this.texts.speech(req.headers['accept-language'] ?? '');
    const { zone } = await this.office.settings();
    // Its forms are sent by a page of ours, which a browser says only where it may say where it comes from.
    res.set({ 'Referrer-Policy': 'same-origin', 'X-Robots-Tag': 'noindex', Vary: 'Accept-Language' });
    res.status(wrong ? PROBLEM_STATUS[wrong.kind] : 200).type('html');
    const said = wrong && { code: wrong.code, detail: wrong.message };
    const depth = req.path.replace(/\/$/, '').split('/plain')[1] === '' ? '../../' : '../../../';
    const about = { up: depth, styles: await this.texts.styles(), zone, sent, answers: answers ?? null };
    res.send(plainIntakePage({ speech, door, problem: said, ...about }));
  }
}

/**
 * What a file in a form has at most, in bytes, and likely has: the form less what it has beside it (RFC 7578 §4, RFC
 * 2046 §5.1.1), of which a browser may leave some out.
 */
function sizesOf(
  { headers }: Request,
  { name, mimeType }: FormFile,
): { name: string; mostBytes: number; likelyBytes: number } {
  const [, boundary = ''] = /boundary="?([^";]+)/.exec(headers['content-type'] ?? '') ?? [];
  const least = `--${boundary}\r\nContent-Disposition: form-data; name="file"; filename=""\r\n\r\n\r\n--${boundary}--\r\n`;
  const mostBytes = Math.max(0, Number(headers['content-length'] ?? 0) - least.length);
  const more = Buffer.byteLength(`${name}Content-Type: ${mimeType}\r\n`);
  return { name, mostBytes, likelyBytes: Math.max(0, mostBytes - more) };
}

const text = (value: unknown): string => (typeof value === 'string' ? value : '');

/** What was typed into the form, as it is asked for elsewhere. */
function answersIn(typed: Record<string, unknown>): IntakeAnswers {
  const own = Object.entries(typed).flatMap(([name, value]) =>
    name.startsWith('own.') ? [[name.slice('own.'.length), text(value)] as const] : [],
  );
  return {
    name: text(typed['name']),
    mail: text(typed['mail']),
    firm: text(typed['firm']),
    own: Object.fromEntries(own),
  };
}
