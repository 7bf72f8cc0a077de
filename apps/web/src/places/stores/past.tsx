import type { PastFolder, PastItem } from '@quay/contract';
import { countOf, momentInWords } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useNavigate, useParams } from 'react-router';
import { useChosen } from '../../ui/chosen';
import { useKeys } from '../../ui/keys';
import { useSearch } from '../../ui/search';
import { now, useZone } from '../../ui/session';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { HiddenHead, Size } from '../../ui/words';
import { iconOf } from './icons';
import { pastQuery } from './queries';
import { useRestoring } from './verbs';
import './past.scss';

const NOW_WORDS: Record<PastItem['now'], string> = {
  same: 'as now',
  changed: 'changed since',
  moved: 'moved elsewhere since',
  trashed: 'in the trash now',
  gone: 'removed for good since',
};

/**
 * A folder as it was at a moment: browsed like a folder, brought back by item or as a whole. The moment is in the
 * address.
 */
export function Past() {
  const { folderId = '' } = useParams();
  const { at, asked, latest, goTo } = useMoment();
  const navigate = useNavigate();
  const { data: past, error, refetch } = useQuery(pastQuery(folderId, at));
  const chosen = useChosen();
  const { restorePast } = useRestoring();
  const moments = past?.moments ?? [];
  // The place on the scale: the last moment that is not after the one that is shown; past the end is now.
  const place = asked === null ? moments.length : moments.filter((m) => m <= at).length - 1;
  const go = (index: number) => {
    chosen.clear();
    goTo(index >= moments.length ? null : (moments[Math.max(0, index)] as string));
  };
  useKeys({
    '[': () => go(place - 1),
    ']': () => go(place + 1),
    'alt+arrowup': () =>
      past && past.folder.path.length > 1 && void navigate(`/stores/${past.folder.path.at(-2)?.id}/past?at=${at}`),
  });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!past) return <SkeletonRows />;
  const isNow = place >= moments.length;
  const bring = (nodeIds: string[] | null) =>
    restorePast.mutate({ folderId, at, nodeIds }, { onSuccess: () => void navigate(`/stores/${folderId}`) });
  return (
    <>
      <div className="title-line">
        <PastTitle past={past} at={at} isNow={isNow} />
        <div className="tools">
          {past.folder.acts.includes('change') && !isNow && (
            <BringBack chosen={chosen.ids} any={past.items.length > 0} busy={restorePast.isPending} bring={bring} />
          )}
          <Link className="btn btn-plain" to={`/stores/${folderId}`}>
            Back to now
          </Link>
        </div>
      </div>
      <TimeScale {...{ place, go, at, latest, isNow }} last={moments.length} choose={goTo} />
      {past.more && (
        <p className="quiet">
          Only the first {past.items.length.toLocaleString('en-GB')} items are shown. Bringing the whole folder back
          brings all.
        </p>
      )}
      {past.items.length === 0 ? (
        <Empty>There was nothing in this folder then.</Empty>
      ) : (
        <PastTable items={past.items} at={at} isNow={isNow} chosen={chosen} />
      )}
    </>
  );
}

/** The moment that is shown. Without one in the address: now, a little ahead of what is changing at this moment. */
function useMoment() {
  const [search, change] = useSearch();
  const [latest] = useState(() => new Date(now() + 2000).toISOString());
  const asked = search.get('at');
  const goTo = (at: string | null) => change({ at }, { replace: true });
  return { at: asked ?? latest, asked, latest, goTo };
}

function PastTitle({ past, at, isNow }: { past: PastFolder; at: string; isNow: boolean }) {
  const zone = useZone();
  const changed = past.items.filter((i) => i.now !== 'same').length;
  const when = isNow ? 'as it is now' : `as it was on ${momentInWords(Date.parse(at), now(), zone)}`;
  const since =
    changed === 0
      ? 'Nothing has changed since.'
      : `${countOf(changed, 'item')} ${changed === 1 ? 'has' : 'have'} changed since.`;
  return (
    <h1>
      {past.folder.name} {when}: {countOf(past.items.length, 'item')}.{' '}
      <span className="quiet">{isNow ? 'Move along the scale to an earlier moment.' : since}</span>
    </h1>
  );
}

interface BringBackProps {
  chosen: ReadonlySet<string>;
  any: boolean;
  busy: boolean;
  bring: (nodeIds: string[] | null) => void;
}

function BringBack({ chosen, any, busy, bring }: BringBackProps) {
  return chosen.size > 0 ? (
    <Button disabled={busy} onClick={() => bring([...chosen])}>
      Bring {countOf(chosen.size, 'item')} back
    </Button>
  ) : (
    <Button variant="plain" disabled={busy || !any} onClick={() => bring(null)}>
      Bring the whole folder back
    </Button>
  );
}

interface ScaleProps {
  place: number;
  last: number;
  go: (place: number) => void;
  at: string;
  latest: string;
  isNow: boolean;
  choose: (at: string) => void;
}

/** All moments at which something changed, in their order, and a field for any other. */
function TimeScale({ place, last, go, at, latest, isNow, choose }: ScaleProps) {
  const zone = useZone();
  const words = isNow ? 'now' : momentInWords(Date.parse(at), now(), zone);
  return (
    <div className="time-scale">
      <Button variant="plain" size="sm" aria-label="Earlier change" disabled={place <= 0} onClick={() => go(place - 1)}>
        <i className="bi bi-chevron-left" aria-hidden />
      </Button>
      <Form.Range
        aria-label="Moment"
        aria-valuetext={words}
        min={0}
        max={last}
        value={Math.max(0, place)}
        onChange={(e) => go(Number(e.target.value))}
      />
      <Button variant="plain" size="sm" aria-label="Later change" disabled={isNow} onClick={() => go(place + 1)}>
        <i className="bi bi-chevron-right" aria-hidden />
      </Button>
      <span className="moment">{words}</span>
      <Form.Control
        type="datetime-local"
        size="sm"
        aria-label="Choose a moment"
        value={local(at, zone)}
        max={local(latest, zone)}
        onChange={(e) => e.target.value && choose(new Date(e.target.value).toISOString())}
      />
    </div>
  );
}

interface TableProps {
  items: PastItem[];
  at: string;
  isNow: boolean;
  chosen: ReturnType<typeof useChosen>;
}

function PastTable({ items, at, isNow, chosen }: TableProps) {
  return (
    <table className="rows">
      <thead>
        <tr>
          <HiddenHead>Selected</HiddenHead>
          <th>Name</th>
          <th>Version</th>
          <th className="number">Size</th>
          <th>Since then</th>
        </tr>
      </thead>
      <tbody>
        {items.map((i) => (
          <tr key={i.id} className={i.now === 'same' ? undefined : 'past-changed'}>
            <td>
              <Form.Check
                aria-label={`Select ${i.name}`}
                disabled={!i.restorable || isNow}
                checked={chosen.ids.has(i.id)}
                onChange={() => chosen.toggle(i.id)}
              />
            </td>
            <td className="first">
              <i className={`bi ${iconOf(i)} me-2`} aria-hidden />
              {i.kind === 'folder' ? (
                <Link to={`/stores/${i.id}/past?at=${encodeURIComponent(at)}`}>{i.name}</Link>
              ) : (
                i.name
              )}
            </td>
            <td className="quiet">{i.versionNumber !== null && i.kind === 'file' ? `v${i.versionNumber}` : ''}</td>
            <td className="number">{i.kind === 'file' && i.restorable && <Size bytes={i.sizeBytes} />}</td>
            <td className={i.now === 'same' ? 'quiet' : undefined}>
              {i.restorable ? NOW_WORDS[i.now] : 'its bytes are gone'}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A moment as the browser's field for date and time wants it. */
function local(at: string, zone: string): string {
  const parts = new Map(
    new Intl.DateTimeFormat('sv-SE', {
      timeZone: zone,
      year: 'numeric',
      month: '2-digit',
      day: '2-digit',
      hour: '2-digit',
      minute: '2-digit',
    })
      .formatToParts(new Date(at))
      .map((p) => [p.type, p.value]),
  );
  return `${parts.get('year')}-${parts.get('month')}-${parts.get('day')}T${parts.get('hour')}:${parts.get('minute')}`;
}
