/** What is asked of a contributor by name: whether, and whether it must be answered. */
export const ASKED = ['no', 'may', 'must'] as const;
export type Asked = (typeof ASKED)[number];

/** A question of the office's own. */
export interface Question {
  id: string;
  words: string;
  must: boolean;
}

export interface IntakeQuestions {
  name: Asked;
  mail: Asked;
  firm: Asked;
  own: readonly Question[];
}

export interface IntakeAnswers {
  name: string;
  mail: string;
  firm: string;
  /** By the id of the question. */
  own: Readonly<Record<string, string>>;
}

export const QUESTION_LENGTH = 200;
export const ANSWER_LENGTH = 500;
/** How often a contributor may be asked about one deposit. */
export const MOST_ASKED_BACK = 20;
export const MOST_QUESTIONS = 10;

export interface AnswerFault {
  /** `name`, `mail`, `firm`, or `own.` and the id of a question. */
  field: string;
  code: 'answer.missing' | 'answer.too-long' | 'answer.not-asked';
  words: string;
}

/** What is wrong with answers; whether a mail address is one is for the rule of recipients. */
export function answerFaults(questions: IntakeQuestions, answers: IntakeAnswers): AnswerFault[] {
  const asked: [field: string, asked: Asked, answer: string][] = [
    ['name', questions.name, answers.name],
    ['mail', questions.mail, answers.mail],
    ['firm', questions.firm, answers.firm],
    ...questions.own.map((q): [string, Asked, string] => [
      `own.${q.id}`,
      q.must ? 'must' : 'may',
      Object.hasOwn(answers.own, q.id) ? (answers.own[q.id] as string) : '',
    ]),
  ];
  const known = new Set(questions.own.map((q) => q.id));
  const foreign = Object.keys(answers.own).filter((id) => !known.has(id));
  return [
    ...asked.flatMap(([field, how, answer]): AnswerFault[] => {
      if (how === 'must' && answer.trim() === '') return [{ field, code: 'answer.missing', words: 'This is needed.' }];
      if (answer.length > ANSWER_LENGTH)
        return [{ field, code: 'answer.too-long', words: `An answer has at most ${ANSWER_LENGTH} signs.` }];
      if (how === 'no' && answer !== '') return [{ field, code: 'answer.not-asked', words: 'This is not asked.' }];
      return [];
    }),
    ...foreign.map((id): AnswerFault => ({
      field: `own.${id}`,
      code: 'answer.not-asked',
      words: 'This is not asked any more.',
    })),
  ];
}
