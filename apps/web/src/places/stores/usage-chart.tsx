import type { StoreGrowth } from '@quay/contract';
import { dayInWords, formatSize } from '@quay/core';
import { area, line, max, scaleLinear, scaleTime } from 'd3';
import { now, useZone } from '../../ui/session';
import './usage-chart.scss';

const SIZE = { width: 560, height: 170, left: 58, bottom: 22, top: 8, right: 8 };
const DAY_MS = 86_400_000;

/** What a store used each day, and where the trend leads with its uncertainty, up to what fits. */
export function UsageChart({ used, growth }: { used: number; growth: StoreGrowth }) {
  const zone = useZone();
  const present = now();
  const points = [
    ...growth.samples.map((s) => ({ at: Date.parse(s.day), bytes: s.usedBytes })).filter((p) => p.at < present),
    { at: present, bytes: used },
  ];
  if (points.length < 2) return <p className="quiet">Every day one point is added here.</p>;
  const ahead = present + 60 * DAY_MS;
  const { forecast } = growth;
  const reach = (perDay: number) => used + Math.max(0, perDay) * 60;
  const low = forecast ? slopeOf(growth, used, forecast.latest) : 0;
  const high = forecast ? slopeOf(growth, used, forecast.earliest) : 0;
  const top = Math.max(
    max(points, (p) => p.bytes) ?? 1,
    forecast ? Math.min(reach(high) || 0, growth.capacityBytes) : 0,
  );
  // The limit is drawn only where it is near enough to matter.
  const near = growth.capacityBytes < top * 2;
  const x = scaleTime([points[0]?.at ?? present, forecast ? ahead : present], [SIZE.left, SIZE.width - SIZE.right]);
  const y = scaleLinear([0, (near ? growth.capacityBytes : top) * 1.08], [SIZE.height - SIZE.bottom, SIZE.top]).nice(4);
  const path =
    line<(typeof points)[0]>(
      (p) => x(p.at),
      (p) => y(p.bytes),
    )(points) ?? '';
  const cone = forecast
    ? (area<{ at: number; low: number; high: number }>(
        (p) => x(p.at),
        (p) => y(p.low),
        (p) => y(p.high),
      )([
        { at: present, low: used, high: used },
        { at: ahead, low: reach(low), high: Math.min(reach(high), y.domain()[1] ?? Infinity) },
      ]) ?? '')
    : '';
  const words = `From ${formatSize(points[0]?.bytes ?? 0)} to ${formatSize(used)} since ${dayInWords(points[0]?.at ?? present, present, zone)}${forecast ? `; ${formatSize(Math.abs(Math.round(forecast.bytesPerDay)))} ${forecast.bytesPerDay < 0 ? 'less' : 'more'} a day` : ''}.`;
  return (
    <figure className="usage-chart">
      <svg viewBox={`0 0 ${SIZE.width} ${SIZE.height}`} role="img" aria-label={words}>
        {y.ticks(4).map((t) => (
          <g key={t}>
            <line className="rule" x1={SIZE.left} x2={SIZE.width - SIZE.right} y1={y(t)} y2={y(t)} />
            <text x={SIZE.left - 8} y={y(t) + 4} textAnchor="end">
              {formatSize(t)}
            </text>
          </g>
        ))}
        {x.ticks(5).map((t) => (
          <text key={t.getTime()} x={x(t)} y={SIZE.height - 5} textAnchor="middle">
            {dayInWords(t.getTime(), present, zone).replace(/^\S+ /, '')}
          </text>
        ))}
        {cone && <path className="cone" d={cone} />}
        <path className="used" d={path} />
        {forecast && (
          <line
            className="trend"
            x1={x(present)}
            y1={y(used)}
            x2={x(ahead)}
            y2={y(Math.min(reach(forecast.bytesPerDay), y.domain()[1] ?? Infinity))}
          />
        )}
        {near && (
          <line
            className="limit"
            x1={SIZE.left}
            x2={SIZE.width - SIZE.right}
            y1={y(growth.capacityBytes)}
            y2={y(growth.capacityBytes)}
          />
        )}
        <line className="now" x1={x(present)} x2={x(present)} y1={SIZE.top} y2={SIZE.height - SIZE.bottom} />
      </svg>
      <figcaption className="quiet">{words}</figcaption>
    </figure>
  );
}

/** The growth a day that fills what is left by a moment; 0 when it never does. */
function slopeOf(growth: StoreGrowth, used: number, fullAt: string | null): number {
  if (fullAt === null) return 0;
  const days = (Date.parse(fullAt) - now()) / DAY_MS;
  return days <= 0 ? 0 : (growth.capacityBytes - used) / days;
}
