import type { ShareRow, ShareSort } from '@quay/contract';
import { COLUMN_WORDS, type ShareColumn } from '@quay/core';
import type { ReactNode } from 'react';
import { Form } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import type { SharesAsked } from '../../ui/queries';
import { ReachLamp } from '../../ui/reach-lamp';
import { StateMark } from '../../ui/state-mark';
import { WindowBar } from '../../ui/window-bar';
import { HiddenHead, Size, When } from '../../ui/words';

interface TableProps {
  shares: ShareRow[];
  chosen: string | undefined;
  /** What is shown besides state, title, window and visits; beside an open sheet there is room for nothing. */
  columns: readonly ShareColumn[];
  /** What the address asks for; the rows' links keep it. */
  query: string;
  order: Pick<SharesAsked, 'sort' | 'descending'>;
  sort: (by: ShareSort) => void;
  /** Ids of those that are selected, and what changes that. */
  selected: ReadonlySet<string>;
  select: (ids: readonly string[], on: boolean) => void;
}

export function ShareTable({ shares, chosen, columns, query, order, sort, selected, select }: TableProps) {
  const heading = { order, sort };
  const ids = shares.map((s) => s.id);
  return (
    <table className="rows">
      <thead>
        <tr>
          <th className="wide-only">
            <Form.Check
              aria-label="Select all shares that are shown"
              checked={ids.every((id) => selected.has(id))}
              onChange={(e) => select(ids, e.target.checked)}
            />
          </th>
          <HiddenHead>State</HiddenHead>
          <Heading {...heading} by="title" name="Title" />
          <Heading {...heading} by="closes" name="Window" />
          <th className="number">Visits</th>
          {columns.map((column) => HEADS[column](heading))}
        </tr>
      </thead>
      <tbody>
        {shares.map((share) => (
          <Row
            key={share.id}
            share={share}
            to={`/shares/${share.id}${query}`}
            chosen={share.id === chosen}
            columns={columns}
            selected={selected.has(share.id)}
            select={(on) => select([share.id], on)}
          />
        ))}
      </tbody>
    </table>
  );
}

const WHO: Record<ShareRow['audience'], string | null> = {
  anyone: null,
  verified: 'proven',
  listed: 'listed',
  members: 'members',
};

/** Whom it is for, where not for anyone, and whether there is a password. */
const guardWords = ({ audience, hasPassword }: ShareRow): string =>
  [WHO[audience], hasPassword ? 'password' : null].filter(Boolean).join(', ') || 'link only';

function Heading({ by, name, order, sort }: { by: ShareSort; name: string } & Pick<TableProps, 'order' | 'sort'>) {
  const chosen = order.sort === by;
  return (
    <th aria-sort={chosen ? (order.descending ? 'descending' : 'ascending') : undefined}>
      <button type="button" className="sorts" onClick={() => sort(by)}>
        {name}
        {chosen && <i className={`bi ${order.descending ? 'bi-arrow-down-short' : 'bi-arrow-up-short'}`} aria-hidden />}
      </button>
    </th>
  );
}

type Sorted = Pick<TableProps, 'order' | 'sort'>;

const HEADS: Record<ShareColumn, (sorted: Sorted) => ReactNode> = {
  guards: () => <th key="guards">{COLUMN_WORDS.guards}</th>,
  reach: () => <th key="reach">{COLUMN_WORDS.reach}</th>,
  items: () => (
    <th key="items" className="number wide-only">
      {COLUMN_WORDS.items}
    </th>
  ),
  size: () => (
    <th key="size" className="number">
      {COLUMN_WORDS.size}
    </th>
  ),
  visited: (sorted) => <Heading key="visited" {...sorted} by="visited" name={COLUMN_WORDS.visited} />,
  by: () => <th key="by">{COLUMN_WORDS.by}</th>,
};

const CELLS: Record<ShareColumn, (share: ShareRow) => ReactNode> = {
  guards: (share) => (
    <td key="guards" className="quiet">
      {guardWords(share)}
    </td>
  ),
  reach: (share) => (
    <td key="reach">
      <ReachLamp mark={share.reach} portability={share.portability} brief />
    </td>
  ),
  items: (share) => (
    <td key="items" className="number wide-only">
      {share.itemCount}
    </td>
  ),
  size: (share) => (
    <td key="size" className="number">
      <Size bytes={share.totalBytes} />
    </td>
  ),
  visited: (share) => (
    <td key="visited">
      {share.lastVisitAt ? <When at={share.lastVisitAt} /> : <span className="quiet">none yet</span>}
    </td>
  ),
  by: (share) => (
    <td key="by" className="quiet">
      {share.createdBy}
    </td>
  ),
};

interface RowProps {
  share: ShareRow;
  to: string;
  chosen: boolean;
  columns: readonly ShareColumn[];
  selected: boolean;
  select: (on: boolean) => void;
}

function Row({ share, to, chosen, columns, selected, select }: RowProps) {
  const navigate = useNavigate();
  return (
    <tr data-clickable aria-selected={chosen} onClick={() => void navigate(to)}>
      <td className="wide-only" onClick={(e) => e.stopPropagation()}>
        <Form.Check
          aria-label={`Select ${share.title}`}
          checked={selected}
          onChange={(e) => select(e.target.checked)}
        />
      </td>
      <td>
        <StateMark state={share.state} />
      </td>
      <td className="first">
        <Link
          to={to}
          className="link-body-emphasis text-decoration-none fw-semibold"
          onClick={(e) => e.stopPropagation()}
        >
          {share.title}
        </Link>
      </td>
      <td>
        <WindowBar share={share} />
      </td>
      <td className="number">
        {share.visitsUsed}
        {share.visitLimit !== null && <span className="quiet"> of {share.visitLimit}</span>}
      </td>
      {columns.map((column) => CELLS[column](share))}
    </tr>
  );
}
