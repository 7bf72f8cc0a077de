import type { ChartShare, IntakeRow } from '@quay/contract';
import {
  assignLanes,
  countOf,
  dayInWords,
  momentInWords,
  SHARE_STATES,
  startOfDay,
  STATE_WORDS,
  type ShareState,
} from '@quay/core';
import { brushX, scaleTime, select, type ScaleTime } from 'd3';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useUndoableChange } from '../../ui/queries';
import { useNow, useZone } from '../../ui/session';
import { StateMark, StateShape } from '../../ui/state-mark';
import { fitted, useWidth } from './measure';
import './window-chart.scss';

const DAY_MS = 86_400_000;
const LANE_PX = 22;
const BAR_PX = 19;
const AXIS_PX = 26;
const OVERVIEW_PX = 30;
const MARGIN_PX = 12;

type Windowed = 'id' | 'title' | 'state' | 'hasPassword' | 'opensAt' | 'closesAt' | 'createdAt' | 'withdrawnAt';

/** A share, or an intake, as it is drawn. */
interface Drawn extends Pick<ChartShare, Windowed> {
  /** Where it is shown whole. */
  path: string;
  isIntake: boolean;
  /** What came of it, in words, and when. */
  came: string;
  times: readonly string[];
}

const drawnShare = (share: ChartShare): Drawn => ({
  ...share,
  ...{ path: `/shares/${share.id}`, isIntake: false, came: `${share.visitsUsed} visits`, times: share.visitTimes },
});

const drawnIntake = (intake: IntakeRow): Drawn => ({
  ...intake,
  ...{ path: `/intakes/${intake.id}`, isIntake: true, came: countOf(intake.deposits, 'deposit') },
  times: intake.lastAt === null ? [] : [intake.lastAt],
});

interface Bar {
  share: Drawn;
  from: number;
  /** null: no end. */
  to: number | null;
}

const FILL: Record<ShareState, string> = {
  open: 'var(--lamp-wash)',
  scheduled: 'var(--tide-wash)',
  closed: 'var(--stone)',
  usedUp: 'var(--stone)',
  withdrawn: 'var(--flare-wash)',
  broken: 'var(--buoy-wash)',
};

/** What the chart shows: from a week ago to five weeks ahead, from midnight to midnight. */
export function useChartSpan(): [number, number] {
  const zone = useZone();
  const today = startOfDay(useNow(30_000), 0, zone);
  return useMemo(() => [startOfDay(today, -7, zone), startOfDay(today, 36, zone)], [today, zone]);
}

interface WindowChartProps {
  shares: ChartShare[];
  intakes: IntakeRow[];
  /** Shares that are not drawn. */
  more: number;
  whole: [number, number];
}

/**
 * The window chart: one bar per share and intake from a week ago to five weeks ahead, in lanes, with visits and deposits
 * as ticks and a line at now.
 */
export function WindowChart({ shares, intakes, more, whole }: WindowChartProps) {
  const zone = useZone();
  const now = useNow(30_000);
  const [box, width] = useWidth();
  const [zoom, setZoom] = useState<[number, number] | null>(null);
  const [from, to] = zoom ?? whole;
  const previous = useRef<Map<string, number>>(new Map());
  const bars = useMemo(
    () =>
      [...shares.map(drawnShare), ...intakes.map(drawnIntake)]
        .map(barOf)
        .filter((b) => b.from < whole[1] && (b.to ?? Infinity) > whole[0]),
    [shares, intakes, whole],
  );
  const lanes = useMemo(() => {
    const made = assignLanes(
      bars.map((b) => ({ id: b.share.id, from: Math.max(b.from, whole[0]), to: Math.min(b.to ?? whole[1], whole[1]) })),
      previous.current,
    );
    previous.current = made;
    return made;
  }, [bars, whole]);
  const laneCount = Math.max(1, ...[...lanes.values()].map((l) => l + 1));
  const height = laneCount * LANE_PX + 4;
  const x = scaleTime([from, to], [MARGIN_PX, width - MARGIN_PX]);
  return (
    <section className="chart-box" aria-label="Windows">
      <ChartHead {...{ from, to, now, more }} drawn={shares.length} whole={zoom ? () => setZoom(null) : null} />
      <div ref={box}>
        {width > 0 && (
          <>
            <svg className="windows" height={AXIS_PX} viewBox={`0 0 ${width} ${AXIS_PX}`} aria-hidden>
              <Axis x={x} from={from} to={to} now={now} zone={zone} />
            </svg>
            <div className="lanes" tabIndex={0} role="region" aria-label="Shares and intakes over time">
              <svg className="windows" height={height} viewBox={`0 0 ${width} ${height}`}>
                <Grid x={x} from={from} to={to} height={height} now={now} zone={zone} />
                {bars.map((b) => (
                  <ShareBar
                    key={b.share.id}
                    bar={b}
                    x={x}
                    lane={lanes.get(b.share.id) ?? 0}
                    now={now}
                    zone={zone}
                    right={width - 1}
                  />
                ))}
              </svg>
            </div>
            <Overview
              bars={bars}
              lanes={lanes}
              laneCount={laneCount}
              whole={whole}
              width={width}
              zoom={zoom}
              setZoom={setZoom}
              now={now}
            />
          </>
        )}
      </div>
    </section>
  );
}

function barOf(share: Drawn): Bar {
  const ends = [share.withdrawnAt, share.closesAt].flatMap((end) => (end === null ? [] : [Date.parse(end)]));
  return {
    share,
    from: Date.parse(share.opensAt ?? share.createdAt),
    to: ends.length > 0 ? Math.min(...ends) : null,
  };
}

type TimeScale = ScaleTime<number, number>;

/** Midnights within the span, and how many of them bear a word. */
function useDays(from: number, to: number, zone: string): { days: number[]; step: number } {
  return useMemo(() => {
    const days: number[] = [];
    for (let at = startOfDay(from, 0, zone); at <= to; at = startOfDay(at, 1, zone)) if (at >= from) days.push(at);
    return { days, step: days.length > 16 ? 7 : 1 };
  }, [from, to, zone]);
}

interface GridProps {
  x: TimeScale;
  from: number;
  to: number;
  now: number;
  zone: string;
}

function Axis({ x, from, to, now, zone }: GridProps) {
  const { days, step } = useDays(from, to, zone);
  const flag = x(now);
  return (
    <g>
      {days.map(
        (day, i) =>
          i % step === 0 && (
            <g key={day}>
              <path d={`M${x(day)} 8V${AXIS_PX}`} stroke="var(--rule)" />
              {x(day) < x(to) - 50 && Math.abs(x(day) + 30 - flag) > 66 && (
                <text x={x(day) + 5} y="18" fillOpacity="0.75">
                  {dayInWords(day, now, zone).replace(/^\w+ /, step === 1 ? '$&' : '')}
                </text>
              )}
            </g>
          ),
      )}
      {now >= from && now <= to && (
        <>
          <rect x={flag - 36} y="4" width="72" height="19" rx="2" fill="#b8430f" />
          <path d={`M${flag} 22V${AXIS_PX}`} stroke="var(--buoy)" strokeWidth="1.500" />
          <text x={flag} y="18" textAnchor="middle" className="fw-semibold" style={{ fill: '#fff' }}>
            {momentInWords(now, now, zone).replace(/ \d+ \w+,/, '')}
          </text>
        </>
      )}
    </g>
  );
}

function Grid({ x, from, to, height, now, zone }: GridProps & { height: number }) {
  const { days, step } = useDays(from, to, zone);
  return (
    <g>
      {days.map((day, i) => (
        <path key={day} d={`M${x(day)} 0V${height}`} stroke="var(--rule)" strokeOpacity={i % step ? 0.45 : 1} />
      ))}
      {now >= from && now <= to && <path d={`M${x(now)} 0V${height}`} stroke="var(--buoy)" strokeWidth="1.500" />}
    </g>
  );
}

interface HeadProps {
  from: number;
  to: number;
  now: number;
  drawn: number;
  /** Shares that are not drawn. */
  more: number;
  /** Back to the whole span; null: that is what is shown. */
  whole: (() => void) | null;
}

function ChartHead({ from, to, now, drawn, more, whole }: HeadProps) {
  const zone = useZone();
  return (
    <div className="chart-head">
      <h2 className="small-head mb-0">Windows</h2>
      <span className="quiet small">
        {dayInWords(from, now, zone)} to {dayInWords(to - 1, now, zone)}
        {more > 0 && (
          <>
            ; the {drawn} that end next are drawn, <Link to="/shares?sort=closes">{more} more</Link> are in Shares
          </>
        )}
      </span>
      {whole && (
        <button type="button" className="btn btn-choice" onClick={whole}>
          Whole span
        </button>
      )}
      <ul className="legend">
        {SHARE_STATES.map((s) => (
          <li key={s}>
            <StateMark state={s} labelled={false} /> {STATE_WORDS[s]}
          </li>
        ))}
      </ul>
    </div>
  );
}

function ShareBar({
  bar,
  x,
  lane,
  now,
  zone,
  right,
}: {
  bar: Bar;
  x: TimeScale;
  lane: number;
  now: number;
  zone: string;
  right: number;
}) {
  const navigate = useNavigate();
  const drag = useExtend(bar, x);
  const { share } = bar;
  const to = drag.to ?? bar.to;
  const x0 = Math.max(0, x(bar.from));
  const x1 = Math.min(right, to === null ? right : x(to));
  if (x1 <= 0 || x0 >= right) return null;
  const y = 1 + lane * LANE_PX;
  const width = Math.max(6, x1 - x0);
  const end = to === null ? 'no end' : momentInWords(to, now, zone);
  const state = STATE_WORDS[share.state];
  // It begins as the bar reads.
  const kind = share.isIntake ? 'intake' : null;
  const name = [share.title, kind, share.hasPassword ? 'password' : null].filter(Boolean).join(', ');
  const words = `${name}: ${state}, ${momentInWords(bar.from, now, zone)} to ${end}, ${share.came}`;
  const place = { x: x0, y, width };
  return (
    <g className={`state-${share.state}`}>
      <a
        href={share.path}
        aria-label={words}
        onClick={(e) => {
          e.preventDefault();
          void navigate(share.path);
        }}
        onKeyDown={drag.keys}
      >
        <title>{words}</title>
        <BarBox share={share} place={place} cut={x(bar.from) < 0} />
        <VisitTicks times={share.times} x={x} place={place} />
        <BarWords share={share} place={place} />
        {to === null && (
          <path d={`M${x1 - 9} ${y + 4.5}l5 5-5 5`} fill="none" stroke="currentColor" strokeWidth="1.800" />
        )}
      </a>
      {drag.allowed && to !== null && x(to) < right && (
        <rect ref={drag.grip} className="grip" x={x1 - 5} y={y} width="10" height={BAR_PX} fill="transparent" />
      )}
      {drag.to !== null && (
        <text x={x1 + 6} y={y + 13} className="fw-semibold">
          {momentInWords(drag.to, now, zone)}
        </text>
      )}
    </g>
  );
}

/** Where a bar is drawn, in pixels. */
interface BarPlace {
  x: number;
  y: number;
  width: number;
}

/** The bar itself, with an edge where the share opens. `cut`: it opened before what is shown. */
function BarBox({ share, place: { x, y, width }, cut }: { share: Drawn; place: BarPlace; cut: boolean }) {
  return (
    <>
      <rect
        className="bar-box"
        x={x}
        y={y}
        width={width}
        height={BAR_PX}
        rx="2"
        style={{ fill: FILL[share.state] }}
        stroke="currentColor"
        strokeDasharray={share.state === 'scheduled' ? '4 2' : undefined}
      />
      {!cut && <rect x={x} y={y} width="4" height={BAR_PX} fill="currentColor" />}
    </>
  );
}

function VisitTicks({ times, x, place }: { times: readonly string[]; x: TimeScale; place: BarPlace }) {
  const at = times.map((t) => x(Date.parse(t))).filter((t) => t >= place.x && t <= place.x + place.width);
  return at.map((t, i) => (
    <path key={i} d={`M${t} ${place.y + BAR_PX}v-4`} stroke="currentColor" strokeWidth="1.500" />
  ));
}

/** The state's shape, the title and whether there is a password, as far as there is room. */
function BarWords({ share, place: { x, y, width } }: { share: Drawn; place: BarPlace }) {
  const title = fitted(share.title, width - 30, true);
  const also = [share.isIntake ? 'intake' : null, share.hasPassword ? 'password' : null].filter(Boolean).join(', ');
  const more = fitted(also, width - 42 - title.width, false);
  return (
    <>
      {width > 26 && (
        <svg x={x + 9} y={y + 3} width="12" height="12" viewBox="0 0 16 16">
          <StateShape state={share.state} />
        </svg>
      )}
      {title.text && (
        <text x={x + 26} y={y + 13} className="fw-semibold">
          {title.text}
        </text>
      )}
      {more.text && ' '}
      {more.text && (
        <text x={x + 36 + title.width} y={y + 13} fillOpacity="0.7">
          {more.text}
        </text>
      )}
    </>
  );
}

/**
 * Moves the end of a bar: with the pointer by its right edge, in whole hours, or by keys with Shift and the arrows, in
 * days.
 */
function useExtend(bar: Bar, x: TimeScale) {
  const [to, setTo] = useState<number | null>(null);
  const grip = useRef<SVGRectElement>(null);
  const change = useUndoableChange();
  const latest = useRef({ x, bar });
  latest.current = { x, bar };
  const { share } = bar;
  // An intake is changed where it is shown.
  const allowed = !share.isIntake && bar.to !== null && share.state !== 'withdrawn';
  const save = (closesAt: number) => {
    const window = { opensAt: share.opensAt, closesAt: share.closesAt };
    const later = { opensAt: share.opensAt, closesAt: new Date(closesAt).toISOString() };
    void change(share.id, { window: later }, { window }, `${share.title} has a new end.`).then(() => setTo(null));
  };
  const saveLatest = useRef(save);
  saveLatest.current = save;
  useEffect(() => {
    const element = grip.current;
    if (!element) return;
    const move = (event: PointerEvent) => {
      const left = element.ownerSVGElement?.getBoundingClientRect().left ?? 0;
      setTo(Math.round(latest.current.x.invert(event.clientX - left).getTime() / 3_600_000) * 3_600_000);
    };
    const down = (event: PointerEvent) => {
      element.setPointerCapture(event.pointerId);
      element.addEventListener('pointermove', move);
      event.preventDefault();
    };
    const up = () => {
      element.removeEventListener('pointermove', move);
      setTo((value) => {
        if (value !== null && value !== latest.current.bar.to) saveLatest.current(value);
        return value;
      });
    };
    element.addEventListener('pointerdown', down);
    element.addEventListener('pointerup', up);
    return () => {
      element.removeEventListener('pointerdown', down);
      element.removeEventListener('pointerup', up);
    };
  }, [allowed]);
  const keys = (event: React.KeyboardEvent) => {
    if (!allowed || !event.shiftKey || bar.to === null || !['ArrowLeft', 'ArrowRight'].includes(event.key)) return;
    event.preventDefault();
    save(bar.to + (event.key === 'ArrowRight' ? DAY_MS : -DAY_MS));
  };
  return { to, grip, allowed, keys };
}

/** The whole span in small, with a brush that chooses what is shown above. */
function Overview({
  bars,
  lanes,
  laneCount,
  whole,
  width,
  zoom,
  setZoom,
  now,
}: {
  bars: Bar[];
  lanes: Map<string, number>;
  laneCount: number;
  whole: [number, number];
  width: number;
  zoom: [number, number] | null;
  setZoom: (zoom: [number, number] | null) => void;
  now: number;
}) {
  const layer = useRef<SVGGElement>(null);
  const x = scaleTime(whole, [MARGIN_PX, width - MARGIN_PX]);
  const step = (OVERVIEW_PX - 8) / laneCount;
  useEffect(() => {
    const element = layer.current;
    if (!element) return;
    const scale = scaleTime(whole, [MARGIN_PX, width - MARGIN_PX]);
    const brush = brushX<unknown>()
      .extent([
        [MARGIN_PX, 1],
        [width - MARGIN_PX, OVERVIEW_PX - 1],
      ])
      .on('end', (event: { selection: [number, number] | null; sourceEvent?: Event }) => {
        if (!event.sourceEvent) return;
        setZoom(
          event.selection && event.selection[1] - event.selection[0] > 12
            ? [scale.invert(event.selection[0]).getTime(), scale.invert(event.selection[1]).getTime()]
            : null,
        );
      });
    const chosen = select<SVGGElement, unknown>(element).call(brush);
    brush.move(chosen, zoom && [scale(zoom[0]), scale(zoom[1])]);
  }, [whole, width, zoom, setZoom]);
  return (
    <svg
      className="windows border-top"
      height={OVERVIEW_PX}
      viewBox={`0 0 ${width} ${OVERVIEW_PX}`}
      role="img"
      aria-label="The whole span; drag to choose a part of it"
    >
      {bars.map((b) => (
        <rect
          key={b.share.id}
          className={`state-${b.share.state}`}
          x={Math.max(0, x(b.from))}
          y={4 + (lanes.get(b.share.id) ?? 0) * step}
          width={Math.max(1, (b.to === null ? width : Math.min(width, x(b.to))) - Math.max(0, x(b.from)))}
          height={Math.max(1, step - 0.6)}
          fill="currentColor"
          fillOpacity="0.55"
        />
      ))}
      <path d={`M${x(now)} 0V${OVERVIEW_PX}`} stroke="var(--buoy)" />
      <g ref={layer} />
    </svg>
  );
}
