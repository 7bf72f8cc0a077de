import type { ShareRow } from '@quay/contract';
import { momentInWords } from '@quay/core';
import { scaleTime } from 'd3';
import { useNow, useZone } from './session';
import './window-bar.scss';

const DAY_MS = 86_400_000;
const [WIDTH, HEIGHT] = [150, 18];

/** A share's window on a small time line from two weeks ago to four weeks ahead, with a line at now. */
export function WindowBar({ share }: { share: Pick<ShareRow, 'opensAt' | 'closesAt' | 'createdAt' | 'state'> }) {
  const present = useNow(60_000);
  const zone = useZone();
  const x = scaleTime([present - 14 * DAY_MS, present + 28 * DAY_MS], [0, WIDTH]).clamp(true);
  const from = Date.parse(share.opensAt ?? share.createdAt);
  const to = share.closesAt ? Date.parse(share.closesAt) : null;
  const x0 = x(from);
  const x1 = to === null ? WIDTH : x(to);
  const words = `${momentInWords(from, present, zone)} to ${to === null ? 'no end' : momentInWords(to, present, zone)}`;
  return (
    <svg className={`window-bar state-${share.state}`} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={words}>
      <title>{words}</title>
      <path d={`M0 9H${WIDTH}`} stroke="var(--rule)" />
      <rect
        x={x0}
        y="5"
        width={Math.max(2, x1 - x0)}
        height="8"
        fill="currentColor"
        fillOpacity={share.state === 'open' ? 0.85 : 0.3}
        stroke="currentColor"
        strokeDasharray={share.state === 'scheduled' ? '2 2' : undefined}
      />
      {to === null && <path d={`M${WIDTH - 6} 3l5 6-5 6`} fill="none" stroke="currentColor" strokeWidth="1.500" />}
      <path d={`M${x(present)} 1V17`} stroke="var(--buoy)" strokeWidth="1.500" />
    </svg>
  );
}
