import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { countOf, passwordStays, STRONG_ENOUGH_SCORE } from '@quay/core';
import {
  SETUP_STEPS,
  type MailServer,
  type MailTrial,
  type MailTrialAnswer,
  type SetupCandidate,
  type SetupMail,
  type SetupOffice,
  type SetupPlace,
  type SetupState,
  type SetupStep,
  type SetupStores,
  type SetupWayIn,
  type SetupYou,
} from '@quay/contract';
import { randomBytes, timingSafeEqual } from 'node:crypto';
import { rm, writeFile } from 'node:fs/promises';
import { hostname } from 'node:os';
import { DataSource, type EntityManager } from 'typeorm';
import { sourceOf } from '../platform/client-address.js';
import { aside } from '../platform/aside.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { tryMail } from '../platform/mail-server.js';
import { hashPassword } from '../platform/passwords.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { seal, secretHash, unseal } from '../platform/seal.js';
import type { SignedInFrom } from '../people/session.service.js';
import { requireStrong } from '../platform/strength.js';
import { newCode, spelled } from './code.js';
import { blobRootOf } from '../platform/office.js';
import type { FileAnswers } from './answers-file.js';
import { OfficeMaker, type Answers, type Begun } from './office-maker.service.js';
import { candidates, measurePlace } from './places.js';
import { Restart } from './restart.js';

/** A code is good for an hour, or until it was typed. */
const CODE_MS = 3600_000;
/** Whoever typed it may take their time; another code takes over from them. */
const HELD_MS = 24 * 3600_000;
/**
 * Tries a minute, few from each source. Of all together so many that nobody is kept out by others: half of 2^40 takes
 * centuries.
 */
const TRIES = { perSource: 10, all: 300 } as const;
const NEW_CODES = 3;
/** Trials that write to a disk or send mail. */
const TRIALS = 12;

/**
 * The first start of a server without an office. Answers are kept as they come, by one browser at a time, which shows
 * by a code that the terminal printed that it belongs to whoever has the machine; in the end an office is made of all
 * of them at once.
 */
@Injectable()
export class SetupService implements OnModuleInit {
  private known = false;
  private finishing = false;
  private tell: (words: string) => void = () => undefined;
  /** What was printed last, by this process. */
  private printed: string | null = null;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly attempts: Attempts,
    private readonly events: Events,
    private readonly maker: OfficeMaker,
    private readonly restart: Restart,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Another process may make the office: it tells of it as of everything. */
  onModuleInit(): void {
    if (!this.config.serves) return;
    this.events.stream.subscribe(() => {
      if (!this.known && !this.finishing) aside(this.begun(), 'whether there is an office could not be asked');
    });
  }

  /** Whether there is an office: somebody has an account. True for ever once it is. */
  async begun(): Promise<boolean> {
    if (this.known) return true;
    const [row] = await this.db.query<{ begun: boolean }[]>('SELECT EXISTS (SELECT 1 FROM person) AS begun');
    this.known = row?.begun ?? false;
    if (this.known && !this.finishing) await this.followElsewhere();
    return this.known;
  }

  /** Another process has made the office: if its bytes lie where this one was not told, it must begin anew. */
  private async followElsewhere(): Promise<void> {
    const root = await blobRootOf(this.db.manager);
    if (root !== null && root !== this.config.blobRoot) this.restart.ask();
  }

  /** Prints a code that lets one browser begin. @param tell how it is told to whoever has the machine */
  async announce(
    tell = this.tell,
    when = 'The code for the first start, good for an hour and for one browser',
  ): Promise<string> {
    this.tell = tell;
    const code = newCode();
    await this.db.query(
      `INSERT INTO setup (code_hash, code_until) VALUES ($1, $2)
       ON CONFLICT (id) DO UPDATE SET code_hash = $1, code_until = $2`,
      [secretHash(code), new Date(this.clock.now() + CODE_MS)],
    );
    if (this.config.codeFile) await writeFile(this.config.codeFile, `${spelled(code)}\n`, { mode: 0o600 });
    this.printed = code;
    this.tell(`${when}: ${spelled(code)}`);
    return code;
  }

  /**
   * Prints the code again, or another one when that is an hour old or was used. Who asks is told nothing, and cannot
   * make a code void that somebody is typing.
   */
  async announceAgain(fromAddress: string): Promise<void> {
    await this.attempts.take(`setup code from ${sourceOf(fromAddress)}`, NEW_CODES);
    const [still] = this.printed
      ? await this.db.query<object[]>('SELECT 1 FROM setup WHERE code_hash = $1 AND code_until > $2', [
          secretHash(this.printed),
          this.clock.date(),
        ])
      : [];
    if (still) this.tell(`The code for the first start is still ${spelled(this.printed as string)}`);
    else await this.announce();
  }

  /**
   * Lets a browser go on with the first start; whoever had it before has it no more.
   * @returns its secret
   * @throws Problem setup.code-wrong, setup.code-old
   */
  async hold(code: string, fromAddress: string): Promise<string> {
    await this.attempts.take(`setup from ${sourceOf(fromAddress)}`, TRIES.perSource);
    await this.attempts.take('setup', TRIES.all);
    const [row] = await this.db.query<{ hash: Buffer; until: Date }[]>(
      'SELECT code_hash AS hash, code_until AS until FROM setup WHERE code_hash IS NOT NULL',
    );
    if (!row || !timingSafeEqual(row.hash, secretHash(code)))
      throw invalidField('code', 'setup.code-wrong', 'That is not the code that the terminal printed last.');
    if (row.until.getTime() <= this.clock.now())
      throw invalidField('code', 'setup.code-old', 'That code is more than an hour old. Have a new one printed.');
    const secret = randomBytes(32).toString('base64url');
    // Only whoever still finds the code uses it up.
    const [, used] = (await this.db.query(
      `UPDATE setup SET code_hash = NULL, code_until = NULL, holder_hash = $2, holder_until = $3
        WHERE code_hash = $1`,
      [row.hash, secretHash(secret), new Date(this.clock.now() + HELD_MS)],
    )) as [unknown, number];
    if (used === 0) throw invalidField('code', 'setup.code-wrong', 'That code has just been used by another browser.');
    // So that it can be continued elsewhere.
    await this.announce(this.tell, 'A browser has typed the code. To go on in another one');
    return secret;
  }

  async isHeld(secret: string | null): Promise<boolean> {
    return (await this.answersOf(this.db.manager, secret)) !== null;
  }

  /** What has been answered so far. @throws Problem setup.not-held */
  async state(secret: string | null): Promise<SetupState> {
    return this.shown(await this.require(this.db.manager, secret));
  }

  async answerOffice(secret: string | null, office: SetupOffice): Promise<SetupState> {
    return this.answer(secret, () => Promise.resolve({ office }));
  }

  async answerYou(secret: string | null, asked: SetupYou): Promise<SetupState> {
    const { office } = await this.require(this.db.manager, secret);
    const you = await this.judgedYou(asked, office);
    return this.answer(secret, () => Promise.resolve({ you }));
  }

  /** @throws Problem password.weak */
  private async judgedYou(
    { password, ...you }: SetupYou,
    office: SetupOffice | undefined,
  ): Promise<NonNullable<Answers['you']>> {
    const context = [you.name, you.signInName, you.email, ...(office?.name.toLowerCase().split(' ') ?? []), 'quay'];
    await requireStrong('password', password, context, STRONG_ENOUGH_SCORE);
    return { ...you, passwordHash: await hashPassword(password) };
  }

  async places(secret: string | null): Promise<SetupCandidate[]> {
    await this.require(this.db.manager, secret);
    await this.attempts.take('setup trial', TRIALS);
    return candidates(this.config.blobRoot);
  }

  async measure(secret: string | null, folder: string): Promise<SetupCandidate> {
    await this.require(this.db.manager, secret);
    await this.attempts.take('setup trial', TRIALS);
    return measurePlace(folder);
  }

  async answerPlace(secret: string | null, asked: SetupPlace): Promise<SetupState> {
    const place = judgedPlace(asked, await this.measure(secret, asked.folder));
    return this.answer(secret, () => Promise.resolve({ place }));
  }

  /**
   * Makes an office of answers that were given on the machine itself.
   * @returns null when there is one already: then nothing is changed
   * @throws Problem with the fields that are refused, named as in the answers
   */
  async makeOf({ office, you, place, stores, mail, wayIn }: FileAnswers): Promise<Begun | null> {
    if (await this.begun()) return null;
    const answers: Required<Answers> = {
      ...{ office, stores, wayIn },
      you: await this.judgedYou(you, office),
      place: judgedPlace(place, await measurePlace(place.folder)),
      mail: mail.later ? { later: true } : this.sealedMail(mail, mail.password),
    };
    return this.maker.make((tx) => this.unlessBegun(tx, answers), null);
  }

  private async unlessBegun(tx: EntityManager, answers: Required<Answers>): Promise<Required<Answers>> {
    const [row] = await tx.query<{ begun: boolean }[]>('SELECT EXISTS (SELECT 1 FROM person) AS begun');
    if (row?.begun) throw notFound('The first start');
    return answers;
  }

  async answerStores(secret: string | null, stores: SetupStores): Promise<SetupState> {
    return this.answer(secret, () => Promise.resolve({ stores }));
  }

  /** A password that is left out is the one that was typed before, for the same server and name. */
  async answerMail(secret: string | null, asked: SetupMail): Promise<SetupState> {
    return this.answer(secret, (before) => {
      if (asked.later) return Promise.resolve({ mail: { later: true } });
      const password = asked.password ?? this.keptPassword(before, asked) ?? undefined;
      return Promise.resolve({ mail: this.sealedMail(asked, password) });
    });
  }

  private sealedMail(
    { host, port, encryption, user, sender }: MailServer,
    password: string | undefined,
  ): NonNullable<Answers['mail']> {
    const passwordSealed = password ? seal(this.config.sealingKey, password).toString('base64') : null;
    return { host, port, encryption, user, sender, passwordSealed };
  }

  async tryMail(secret: string | null, { to, ...server }: MailTrial): Promise<MailTrialAnswer> {
    const answers = await this.require(this.db.manager, secret);
    await this.attempts.take('setup trial', TRIALS);
    const password = server.password ?? this.keptPassword(answers, server) ?? '';
    return tryMail({ ...server, password }, to, answers.office?.name ?? 'your office');
  }

  async answerWayIn(secret: string | null, wayIn: SetupWayIn): Promise<SetupState> {
    return this.answer(secret, () => Promise.resolve({ wayIn }));
  }

  /**
   * Makes the office of what was answered: all of it, or nothing.
   * @throws Problem setup.incomplete, naming what is missing; place.refused
   */
  async finish(secret: string | null, from: SignedInFrom): Promise<Begun> {
    requireComplete(await this.require(this.db.manager, secret));
    this.finishing = true;
    try {
      const begun = await this.maker.make(
        async (tx) => requireComplete(await this.require(tx, secret, 'FOR UPDATE')),
        from,
      );
      this.known = true;
      this.printed = null;
      if (this.config.codeFile) await rm(this.config.codeFile, { force: true });
      this.tell(`${begun.office} has begun with ${countOf(begun.stores, 'store')}. The code is not needed any more.`);
      return begun;
    } finally {
      this.finishing = false;
    }
  }

  private async answer(
    secret: string | null,
    make: (before: Answers) => Promise<Partial<Answers>>,
  ): Promise<SetupState> {
    return this.events.change(async (tx) => {
      const before = await this.require(tx, secret, 'FOR UPDATE');
      const after: Answers = { ...before, ...(await make(before)) };
      await tx.query('UPDATE setup SET answers = $1', [JSON.stringify(after)]);
      return this.shown(after);
    });
  }

  private keptPassword({ mail }: Answers, server: MailServer): string | null {
    if (!mail || mail.later || mail.passwordSealed === null || !passwordStays(mail, server)) return null;
    return unseal(this.config.sealingKey, Buffer.from(mail.passwordSealed, 'base64'));
  }

  private async require(m: EntityManager, secret: string | null, lock: '' | 'FOR UPDATE' = ''): Promise<Answers> {
    if (await this.begun()) throw notFound('The first start');
    const answers = await this.answersOf(m, secret, lock);
    if (answers) return answers;
    throw new Problem(
      'unauthenticated',
      'setup.not-held',
      'This browser has not typed the code that the terminal printed, or another one has gone on since.',
    );
  }

  private async answersOf(
    m: EntityManager,
    secret: string | null,
    lock: '' | 'FOR UPDATE' = '',
  ): Promise<Answers | null> {
    if (!secret) return null;
    const [row] = await m.query<{ answers: Answers; hash: Buffer }[]>(
      `SELECT answers, holder_hash AS hash FROM setup WHERE holder_hash IS NOT NULL AND holder_until > $1 ${lock}`,
      [this.clock.date()],
    );
    return row && timingSafeEqual(row.hash, secretHash(secret)) ? row.answers : null;
  }

  private shown({ you, mail, ...rest }: Answers): SetupState {
    return {
      machine: hostname(),
      proposedPlace: this.config.blobRoot,
      answers: {
        ...rest,
        ...(you && { you: { name: you.name, signInName: you.signInName, email: you.email } }),
        ...(mail && { mail: mail.later ? { later: true } : withoutSecret(mail) }),
      },
      now: this.clock.date().toISOString(),
    };
  }
}

function withoutSecret({ passwordSealed: _, ...server }: Exclude<NonNullable<Answers['mail']>, { later: true }>) {
  return server;
}

/** @throws Problem place.unsafe, unless it is wanted all the same */
function judgedPlace(
  asked: SetupPlace,
  { folder, mark, words, takeable }: SetupCandidate,
): NonNullable<Answers['place']> {
  if (mark === 'fail' && !(asked.anyway && takeable))
    throw invalidField('folder', 'place.unsafe', `${folder}: ${words}.`);
  return { folder, anyway: asked.anyway ?? false, mark, words };
}

const STEP_WORDS: Record<SetupStep, string> = {
  office: 'the office',
  you: 'who you are',
  place: 'where files lie',
  stores: 'the first stores',
  mail: 'mail',
  wayIn: 'the way in',
};

function requireComplete(answers: Answers): Required<Answers> {
  const missing = SETUP_STEPS.filter((step) => answers[step] === undefined);
  if (missing.length > 0)
    throw new Problem(
      'conflict',
      'setup.incomplete',
      `Not answered yet: ${missing.map((step) => STEP_WORDS[step]).join(', ')}.`,
      { missing },
    );
  return answers as Required<Answers>;
}
