import type { ReachMark } from '@quay/core';
import { StageShape } from './stage-shape';
import './reach-lamp.scss';

/** The shape that stands for a mark. */
export const LAMP: Record<ReachMark, 'ok' | 'warn' | 'fail' | 'skipped'> = {
  ok: 'ok',
  warn: 'warn',
  fail: 'fail',
  unknown: 'skipped',
};
const WORDS: Record<ReachMark, string> = {
  ok: 'works from outside',
  warn: 'works from outside, and something needs a hand',
  fail: 'cannot be reached from outside now',
  unknown: 'not proved from outside yet',
};

/** What a lamp says of an address: whether it works for people outside. */
function lampWords(mark: ReachMark, portability: string | null): string {
  return portability ? 'works only inside the office' : WORDS[mark];
}

/** The reach lamp. Brief: the mark alone, its words on hover and for those who listen. */
export function ReachLamp({
  mark,
  portability,
  brief = false,
}: {
  mark: ReachMark;
  portability: string | null;
  brief?: boolean;
}) {
  const words = lampWords(mark, portability);
  const shown = portability ? 'warn' : LAMP[mark];
  return (
    <span className="reach-lamp" title={words}>
      <StageShape mark={shown} />
      <span className={brief ? 'visually-hidden' : shown === 'skipped' ? 'quiet' : `mark-${shown}`}>{words}</span>
    </span>
  );
}
