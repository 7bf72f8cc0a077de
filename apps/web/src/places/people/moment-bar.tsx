import { dayInWords, fromLocalField, toLocalField } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { scaleTime } from 'd3';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { now, useZone } from '../../ui/session';
import { momentsQuery } from './queries';
import './moment-bar.scss';

const DAY_MS = 86_400_000;
const SHOWN_DAYS = 90;
const HOUR_MS = 3600_000;

interface MomentProps {
  /** RFC 3339; null: now. */
  at: string | null;
  choose: (at: string | null) => void;
  comparing: boolean;
  compare: (on: boolean) => void;
}

/** Chooses the moment that is shown, between three months ago and now; each tick is an hour in which something changed. */
export function MomentBar({ at, choose, comparing, compare }: MomentProps) {
  const zone = useZone();
  const { data } = useQuery(momentsQuery);
  const end = now();
  const begin = end - SHOWN_DAYS * DAY_MS;
  const x = scaleTime([begin, end], [0, 100]);
  const shown = at ? Date.parse(at) : end;
  const ticks = (data?.moments ?? []).filter((m) => Date.parse(m.at) >= begin);
  const most = Math.max(1, ...ticks.map((m) => m.changes));
  return (
    <div className="moment-bar">
      <span className="label">At</span>
      <button type="button" className="btn btn-choice" aria-pressed={at === null} onClick={() => choose(null)}>
        now
      </button>
      <MomentField key={at ?? 'now'} at={at} choose={choose} />
      <div className="moment-line">
        <div className="ticks" aria-hidden>
          {ticks.map((m) => (
            <i
              key={m.at}
              style={{ left: `${x(new Date(m.at))}%`, height: `${6 + 14 * Math.sqrt(m.changes / most)}px` }}
            />
          ))}
        </div>
        <Form.Range
          aria-label="The moment that is shown"
          aria-valuetext={at ? dayInWords(shown, end, zone) : 'now'}
          min={begin}
          max={end}
          step={HOUR_MS}
          value={shown}
          onChange={(e) => choose(momentOf(Number(e.target.value), end))}
        />
      </div>
      {at && (
        <Button variant="plain" size="sm" aria-pressed={comparing} onClick={() => compare(!comparing)}>
          {comparing ? 'Leave the comparison' : 'Compare with now'}
        </Button>
      )}
    </div>
  );
}

/** The last hour is now. */
const momentOf = (value: number, end: number): string | null =>
  value > end - HOUR_MS ? null : new Date(value).toISOString();

export function MomentField({ at, choose }: Pick<MomentProps, 'at' | 'choose'>) {
  const zone = useZone();
  const [typed, setTyped] = useState(at ? toLocalField(Date.parse(at), zone) : '');
  const take = () => {
    const moment = typed === '' ? null : fromLocalField(typed, zone);
    choose(moment === null || moment >= now() ? null : new Date(moment).toISOString());
  };
  return (
    <Form.Control
      type="datetime-local"
      size="sm"
      aria-label="Day and time that are shown"
      value={typed}
      max={toLocalField(now(), zone)}
      onChange={(e) => setTyped(e.target.value)}
      onBlur={take}
      onKeyDown={(e) => e.key === 'Enter' && take()}
    />
  );
}

/** The next change before or after a moment, for `[` and `]`. @returns null: now */
export function nextMoment(moments: readonly { at: string }[], at: string | null, later: boolean): string | null {
  const from = at === null ? Infinity : Date.parse(at);
  const times = moments.map((m) => Date.parse(m.at));
  const found = later ? times.find((t) => t > from) : times.findLast((t) => t < from);
  return found === undefined ? (later ? null : at) : new Date(found).toISOString();
}
