import { ACCESS_LEVELS, LEVEL_WORDS, type AccessLevel, type CellSign } from '@quay/core';
import './gauge.scss';

/** How much of the gauge is full. */
const FILLED: Record<AccessLevel, number> = { view: 0.14, download: 0.42, contribute: 0.42, edit: 0.76, manage: 1 };

/** What a sign says, in words. */
export function signWords({ level, here, onlyManages }: CellSign): string {
  if (onlyManages) return 'only says who reaches it';
  if (!level) return 'nothing';
  return `${LEVEL_WORDS[level]}, ${here ? 'granted here' : 'by a group or from above'}`;
}

/** A level as a gauge with its letter: the more somebody may, the fuller; framed where it was granted. */
export function Gauge({ sign }: { sign: CellSign }) {
  if (sign.onlyManages) return <span className="gauge only-manages" aria-hidden />;
  if (!sign.level) return <span className="gauge none" aria-hidden />;
  const height = Math.round(18 * FILLED[sign.level]);
  return (
    <svg className={`gauge ${sign.here ? 'here' : 'over'} ${sign.level}`} viewBox="0 0 20 20" aria-hidden>
      <rect className="edge" x="1" y="1" width="18" height="18" rx="3" />
      <rect className="full" x="1" y={19 - height} width="18" height={height} rx="2" />
      {sign.level === 'contribute' && <path className="hatch" d="M3 19 19 3 M1 15 15 1 M7 19 19 7 M11 19 19 11" />}
      <text x="10" y="14.2" textAnchor="middle">
        {sign.level.charAt(0).toUpperCase()}
      </text>
    </svg>
  );
}

/** What the gauges mean. */
export function Legend() {
  return (
    <p className="gauge-legend quiet small">
      {ACCESS_LEVELS.map((level) => (
        <span key={level}>
          <Gauge sign={{ level, here: true, onlyManages: false }} /> {LEVEL_WORDS[level]}
        </span>
      ))}
      <span>
        <Gauge sign={{ level: 'edit', here: false, onlyManages: false }} /> by a group or from above
      </span>
      <span>
        <Gauge sign={{ level: null, here: false, onlyManages: true }} /> only says who reaches it
      </span>
      <span>
        <i className="closed-line" aria-hidden /> takes nothing over
      </span>
    </p>
  );
}
