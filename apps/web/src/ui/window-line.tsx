import type { Window } from '@quay/core';
import { scaleTime } from 'd3';
import './window-line.scss';

const DAY_MS = 86_400_000;
const [WIDTH, HEIGHT] = [280, 22];

/** The window drawn on a tiny time line that begins a little before now. */
export function WindowLine({ window, now }: { window: Window; now: number }) {
  const from = window.opensAt ?? now;
  const span = Math.max(DAY_MS, (window.closesAt ?? from + 30 * DAY_MS) - now);
  const x = scaleTime([now - span * 0.15, now + span * 1.2], [0, WIDTH]).clamp(true);
  const [x0, x1] = [x(Math.max(from, now)), window.closesAt === null ? WIDTH : x(window.closesAt)];
  return (
    <svg className="timeline-mini" viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" aria-hidden>
      <path d={`M0 11H${WIDTH}`} stroke="var(--rule-strong)" />
      <rect x={x0} y="5" width={Math.max(2, x1 - x0)} height="12" fill="var(--lamp)" />
      <path d={`M${x(now)} 0V${HEIGHT}`} stroke="var(--buoy)" strokeWidth="2" />
    </svg>
  );
}
