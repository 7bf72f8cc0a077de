import { SHARE_SORTS, type ShareList, type ShareRow, type ShareSort } from '@quay/contract';
import {
  countOf,
  FACET_WORDS,
  SHARE_FACETS,
  SHARE_STATES,
  STATE_WORDS,
  type ShareFacet,
  type ShareState,
} from '@quay/core';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useRef, useState, type ReactNode } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useNavigate, useParams } from 'react-router';
import { useSlip } from '../../slip/store';
import { useKeys } from '../../ui/keys';
import { useSearch } from '../../ui/search';
import { sharesQuery, type SharesAsked } from '../../ui/queries';
import { WithSheet } from '../../ui/sheet';
import { useTyped } from '../../ui/typed';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { BulkBar } from './bulk-bar';
import { CalendarDialog } from './calendar';
import { Columns, KeptFilters, useListView } from './list-view';
import { ShareSheetPanel } from './sheet';
import { ShareTable } from './table';
import { TidyDialog } from './tidy';

/** All outgoing publications; a row opens its sheet at the right. What is asked for stands in the address. */
export function Shares() {
  const { shareId } = useParams();
  const navigate = useNavigate();
  const { asked, ask, query } = useAsked();
  const pages = useInfiniteQuery(sharesQuery(asked));
  const field = useRef<HTMLInputElement>(null);
  const [find, setFind] = useTyped(asked.find ?? '', (text) => ask({ find: text.trim() || undefined }));
  const shares = pages.data?.pages.flatMap((p) => p.shares);
  const counts = pages.data?.pages[0]?.counts ?? undefined;
  const facets = pages.data?.pages[0]?.facets ?? undefined;
  const { view, keep } = useListView();
  const [selected, setSelected] = useState<ReadonlySet<string>>(new Set());
  const select = (ids: readonly string[], on: boolean) =>
    setSelected(new Set(on ? [...selected, ...ids] : [...selected].filter((id) => !ids.includes(id))));
  const at = shares?.findIndex((s) => s.id === shareId) ?? -1;
  const go = (index: number) => {
    const share = shares?.[Math.max(0, Math.min(shares.length - 1, index))];
    if (share) void navigate(`/shares/${share.id}${query}`);
    if (shares && index >= shares.length - 1 && pages.hasNextPage) void pages.fetchNextPage();
  };
  useKeys({
    '/': () => field.current?.focus(),
    n: () => void navigate('/stores'),
    arrowdown: () => go(at + 1),
    arrowup: () => go(at - 1),
    escape: () => void navigate(`/shares${query}`),
  });
  if (pages.error && !shares) return <Failure error={pages.error} again={() => void pages.refetch()} />;
  return (
    <>
      <Title counts={counts} find={asked.find} columns={<Columns view={view} keep={keep} />} />
      <div className="filters">
        <States
          counts={asked.facet ? facets?.[asked.facet] : counts}
          chosen={asked.state}
          choose={(state) => ask({ state })}
        />
        <Form.Control
          ref={field}
          type="search"
          aria-label="Find a share"
          placeholder="Title or person"
          maxLength={200}
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      </div>
      <Facets facets={facets} state={asked.state} chosen={asked.facet} choose={(facet) => ask({ facet })} />
      <KeptFilters view={view} keep={keep} query={query} />
      <WithSheet
        sheet={shareId && <ShareSheetPanel key={shareId} id={shareId} close={() => void navigate(`/shares${query}`)} />}
      >
        <BulkBar selected={shares?.filter((s) => selected.has(s.id)) ?? []} clear={() => setSelected(new Set())} />
        <Found shares={shares} narrowed={Boolean(asked.state || asked.facet || asked.find)}>
          {(found) => (
            <ShareTable
              shares={found}
              chosen={shareId}
              columns={shareId ? [] : view.columns}
              query={query}
              order={asked}
              sort={(sort) => ask(nextOrder(asked, sort))}
              selected={selected}
              select={select}
            />
          )}
        </Found>
        {pages.hasNextPage && <More busy={pages.isFetchingNextPage} show={() => void pages.fetchNextPage()} />}
      </WithSheet>
    </>
  );
}

const More = ({ busy, show }: { busy: boolean; show: () => void }) => (
  <button type="button" className="btn btn-plain mt-3" disabled={busy} onClick={show}>
    Show more shares
  </button>
);

/** What the address asks for, and a way to ask for something else. */
function useAsked() {
  const [params, change] = useSearch();
  const ask = (part: Partial<SharesAsked>) =>
    change(
      (now) => {
        const { state, facet, find, sort, descending } = { ...askedBy(now), ...part };
        return {
          state,
          facet,
          find,
          sort: sort === 'made' ? null : sort,
          descending: descending === beginsDescending(sort) ? null : String(descending),
        };
      },
      // Typing is no step to go back to.
      { replace: 'find' in part },
    );
  return { asked: askedBy(params), ask, query: params.toString() ? `?${params.toString()}` : '' };
}

function askedBy(params: URLSearchParams): SharesAsked {
  const sort = SHARE_SORTS.find((s) => s === params.get('sort')) ?? 'made';
  return {
    state: SHARE_STATES.find((s) => s === params.get('state')),
    facet: SHARE_FACETS.find((f) => f === params.get('facet')),
    find: params.get('find') ?? undefined,
    sort,
    descending: params.has('descending') ? params.get('descending') === 'true' : beginsDescending(sort),
  };
}

/** The newest first, and who was there last; titles and ends from the beginning. */
const beginsDescending = (sort: ShareSort): boolean => sort === 'made' || sort === 'visited';

/** A heading turns its order round, and at the third time gives it up. */
function nextOrder(asked: SharesAsked, sort: ShareSort): Partial<SharesAsked> {
  if (asked.sort !== sort) return { sort, descending: beginsDescending(sort) };
  if (asked.descending === beginsDescending(sort)) return { descending: !asked.descending };
  return { sort: 'made', descending: true };
}

interface TitleProps {
  counts: ShareList['counts'] | undefined;
  find: string | undefined;
  /** Which columns there are. */
  columns: ReactNode;
}

function Title({ counts, find, columns }: TitleProps) {
  const begin = useSlip((slip) => slip.begin);
  const [calendar, setCalendar] = useState(false);
  const [tidying, setTidying] = useState(false);
  const navigate = useNavigate();
  const all = counts ? Object.values(counts).reduce((sum, n) => sum + n, 0) : 0;
  return (
    <div className="title-line">
      <h1>
        {!counts
          ? 'Shares'
          : find
            ? `${countOf(all, 'share')} found.`
            : `${countOf(counts.open, 'share')} open, ${counts.scheduled} scheduled.`}{' '}
        {counts && counts.broken > 0 && <span className="hand">{counts.broken} broken.</span>}
      </h1>
      <div className="tools">
        <Button variant="plain" onClick={() => setCalendar(true)}>
          Calendar
        </Button>
        {calendar && <CalendarDialog close={() => setCalendar(false)} />}
        <Button variant="plain" onClick={() => setTidying(true)}>
          Tidy
        </Button>
        {columns}
        {tidying && <TidyDialog close={() => setTidying(false)} />}
        <Button
          onClick={() => {
            begin();
            void navigate('/stores');
          }}
        >
          New share
        </Button>
      </div>
    </div>
  );
}

interface StatesProps {
  counts: ShareList['counts'] | undefined;
  chosen: ShareState | undefined;
  choose: (state: ShareState | undefined) => void;
}

function States({ counts, chosen, choose }: StatesProps) {
  const all = counts ? Object.values(counts).reduce((sum, n) => sum + n, 0) : '';
  return (
    <>
      <button type="button" className="btn btn-choice" aria-pressed={!chosen} onClick={() => choose(undefined)}>
        all {all}
      </button>
      {SHARE_STATES.map((s) => (
        <button key={s} type="button" className="btn btn-choice" aria-pressed={chosen === s} onClick={() => choose(s)}>
          {STATE_WORDS[s]} {counts?.[s] ?? ''}
        </button>
      ))}
    </>
  );
}

interface FacetsProps {
  facets: NonNullable<ShareList['facets']> | undefined;
  state: ShareState | undefined;
  chosen: ShareFacet | undefined;
  choose: (facet: ShareFacet | undefined) => void;
}

/** What else it can be narrowed by, as far as there is any; pressed once more it is given up. */
function Facets({ facets, state, chosen, choose }: FacetsProps) {
  const countFor = (facet: ShareFacet) => {
    const of = facets?.[facet];
    if (!of) return 0;
    return state ? of[state] : Object.values(of).reduce((sum, n) => sum + n, 0);
  };
  const shown = SHARE_FACETS.filter((facet) => facet === chosen || countFor(facet) > 0);
  if (shown.length === 0) return null;
  return (
    <div className="filters facets" role="group" aria-label="Only those that are">
      {shown.map((facet) => (
        <button
          key={facet}
          type="button"
          className="btn btn-choice btn-sm"
          aria-pressed={facet === chosen}
          onClick={() => choose(facet === chosen ? undefined : facet)}
        >
          {FACET_WORDS[facet]} {countFor(facet)}
        </button>
      ))}
    </div>
  );
}

interface FoundProps {
  shares: ShareRow[] | undefined;
  narrowed: boolean;
  children: (shares: ShareRow[]) => React.ReactNode;
}

function Found({ shares, narrowed, children }: FoundProps) {
  if (!shares) return <SkeletonRows />;
  if (shares.length > 0) return children(shares);
  if (narrowed) return <Empty>No share matches that.</Empty>;
  return (
    <Empty
      action={
        <Link className="btn btn-primary" to="/stores">
          Go to the stores
        </Link>
      }
    >
      Shares are what you publish to people outside. Select items in a store and put them on the slip.
    </Empty>
  );
}
