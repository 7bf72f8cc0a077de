import type { StageMark } from '@quay/core';
import './stage-shape.scss';

/** A mark is a shape and a colour: disc, triangle, cross, ring. */
export function StageShape({ mark }: { mark: StageMark }) {
  return (
    <svg className={`stage-shape mark-${mark}`} viewBox="0 0 16 16" width="16" height="16" aria-hidden>
      {mark === 'ok' && <circle cx="8" cy="8" r="6.600" fill="currentColor" />}
      {mark === 'warn' && <path d="M8 1 15.200 14.200H.800z" fill="currentColor" />}
      {mark === 'fail' && <path d="M2.500 2.500l11 11M13.500 2.500l-11 11" stroke="currentColor" strokeWidth="3.200" />}
      {(mark === 'skipped' || mark === 'not-reached') && (
        <circle
          cx="8"
          cy="8"
          r={mark === 'skipped' ? 3.4 : 5}
          fill="var(--sheet)"
          stroke="currentColor"
          strokeWidth="1.800"
        />
      )}
    </svg>
  );
}
