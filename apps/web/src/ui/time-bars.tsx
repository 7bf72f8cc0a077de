import { countOf, dayInWords, momentInWords, type BarStep } from '@quay/core';
import { max, scaleLinear, scaleTime } from 'd3';
import { now, useZone } from './session';
import './time-bars.scss';

const SIZE = { width: 360, height: 92, bottom: 18, top: 12 };
const STEP_WORDS: Record<BarStep, string> = {
  hour: 'each hour',
  day: 'each day',
  week: 'each week',
  'four weeks': 'every four weeks',
};

interface TimeBarsProps {
  step: BarStep;
  /** Bar n lies between edges n and n + 1; bars of nothing are left out. */
  edges: readonly string[];
  bars: readonly { bar: number; all: number; full: number }[];
  /** What is counted, one of them. */
  of: string;
  /** What is true of the full part of each bar, after its number. */
  full: string;
}

/** What happened over time; of each bar, the full part is told apart. */
export function TimeBars({ step, edges, bars, of, full }: TimeBarsProps) {
  const zone = useZone();
  const present = now();
  const moments = edges.map((edge) => Date.parse(edge));
  const [first = present, last = present] = [moments[0], moments.at(-1)];
  const most = max(bars, (b) => b.all) ?? 1;
  const x = scaleTime([first, last], [0, SIZE.width]);
  const y = scaleLinear([0, most], [SIZE.height - SIZE.bottom, SIZE.top]);
  const nameOf = (at: number) => (step === 'hour' ? momentInWords(at, present, zone) : dayInWords(at, present, zone));
  const all = bars.reduce((sum, b) => sum + b.all, 0);
  const told = bars.reduce((sum, b) => sum + b.full, 0);
  const highest = bars.find((b) => b.all === most);
  const words = `${countOf(all, of)} since ${dayInWords(first, present, zone)}, ${told} of them ${full}; most ${STEP_WORDS[step]}: ${most}${highest ? ` (${nameOf(moments[highest.bar] ?? first)})` : ''}.`;
  return (
    <figure className="time-bars">
      <svg viewBox={`0 0 ${SIZE.width} ${SIZE.height}`} role="img" aria-label={words}>
        <line className="rule" x1={0} x2={SIZE.width} y1={y(0)} y2={y(0)} />
        {bars.map(({ bar, all: height, full: part }) => {
          const [from = first, to = last] = [moments[bar], moments[bar + 1]];
          const width = Math.max(1.5, x(to) - x(from) - 1);
          return (
            <g key={bar}>
              <title>{`${nameOf(from)}: ${countOf(height, of)}, ${part} ${full}`}</title>
              <rect className="all" x={x(from)} width={width} y={y(height)} height={y(0) - y(height)} />
              <rect className="full" x={x(from)} width={width} y={y(part)} height={y(0) - y(part)} />
            </g>
          );
        })}
        <text x={0} y={SIZE.height - 4}>
          {nameOf(first)}
        </text>
        <text x={SIZE.width} y={SIZE.height - 4} textAnchor="end">
          {nameOf(Math.min(last, present))}
        </text>
      </svg>
      <figcaption className="quiet small">{words}</figcaption>
    </figure>
  );
}
