import type { VantageResult } from '@quay/contract';
import {
  STAGE_WORDS,
  SEEN_WORDS,
  STAGES,
  VANTAGE_WORDS,
  type Stage,
  type StageMark,
  type StageResult,
  type Vantage,
} from '@quay/core';
import { useRef, type KeyboardEvent } from 'react';
import { StageShape } from '../../../ui/stage-shape';
import './matrix.scss';

const MARK_WORDS: Record<StageMark, string> = {
  ok: 'passed',
  warn: 'needs a hand',
  fail: 'stops here',
  skipped: 'not needed',
  'not-reached': 'not reached',
};

interface Chosen {
  vantage: Vantage;
  stage: Stage;
}

/**
 * Rows are vantages, columns the stages of the way in; each cell says what was measured. Arrow keys walk the cells.
 * `must`: the only vantage that the address is for; null: everybody.
 */
export function Matrix({
  vantages,
  must,
  chosen,
  choose,
}: {
  vantages: VantageResult[];
  must: Vantage | null;
  chosen: Chosen;
  choose: (cell: Chosen) => void;
}) {
  const table = useRef<HTMLTableElement>(null);
  const walk = (e: KeyboardEvent, row: number, column: number) => {
    const by = STEPS[e.key];
    if (!by) return;
    e.preventDefault();
    for (let r = row + by[0], c = column + by[1]; inside(r, vantages) && inside(c, STAGES); r += by[0], c += by[1]) {
      const next = table.current?.querySelector<HTMLButtonElement>(`[data-cell="${r} ${c}"]`);
      if (!next) continue;
      next.focus();
      next.click();
      return;
    }
  };
  return (
    <div className="matrix-scroll">
      <table className="matrix" ref={table}>
        <thead>
          <tr>
            <th scope="col">
              <span className="visually-hidden">From</span>
            </th>
            {STAGES.map((s) => (
              <th key={s} scope="col">
                {STAGE_WORDS[s]}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {vantages.map((v, row) => (
            <tr
              key={v.vantage}
              className={
                (must === null || must === v.vantage) && v.trace?.some((s) => s.mark === 'fail') ? 'stopped' : undefined
              }
            >
              <th scope="row">
                {VANTAGE_WORDS[v.vantage]}
                {v.seen && v.trace && <span className="quiet small d-block">{SEEN_WORDS[v.seen.by]}</span>}
              </th>
              {v.trace ? (
                v.trace.map((s, column) => (
                  <td
                    key={s.stage}
                    className={`cell after-${v.trace?.[column + 1]?.mark ?? 'end'}`}
                    data-label={STAGE_WORDS[s.stage]}
                  >
                    <Cell
                      stage={s}
                      vantage={v.vantage}
                      pressed={chosen.vantage === v.vantage && chosen.stage === s.stage}
                      at={`${row} ${column}`}
                      press={() => choose({ vantage: v.vantage, stage: s.stage })}
                      walk={(e) => walk(e, row, column)}
                    />
                  </td>
                ))
              ) : (
                <td colSpan={STAGES.length} className="quiet ps-3">
                  {v.unavailable}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const STEPS: Partial<Record<string, [number, number]>> = {
  ArrowRight: [0, 1],
  ArrowLeft: [0, -1],
  ArrowDown: [1, 0],
  ArrowUp: [-1, 0],
};
const inside = (index: number, list: readonly unknown[]): boolean => index >= 0 && index < list.length;

function Cell({
  stage,
  vantage,
  pressed,
  at,
  press,
  walk,
}: {
  stage: StageResult;
  vantage: Vantage;
  pressed: boolean;
  at: string;
  press: () => void;
  walk: (e: KeyboardEvent) => void;
}) {
  return (
    <button
      type="button"
      data-cell={at}
      aria-pressed={pressed}
      tabIndex={pressed ? 0 : -1}
      onClick={press}
      onKeyDown={walk}
    >
      <span className="visually-hidden">
        {VANTAGE_WORDS[vantage]}, {STAGE_WORDS[stage.stage]}, {MARK_WORDS[stage.mark]}:{' '}
      </span>
      <StageShape mark={stage.mark} />
      <span className={`value mark-${stage.mark}`}>{stage.value}</span>
      <span className="note">{stage.note}</span>
    </button>
  );
}
