import type { ShareRow, ShareSort } from '@quay/contract';
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
  /** Beside an open sheet there is room for little. */
  narrow: boolean;
  /** What the address asks for; the rows' links keep it. */
  query: string;
  order: Pick<SharesAsked, 'sort' | 'descending'>;
  sort: (by: ShareSort) => void;
  /** Ids of those that are selected, and what changes that. */
  selected: ReadonlySet<string>;
  select: (ids: readonly string[], on: boolean) => void;
}

export function ShareTable({ shares, chosen, narrow, query, order, sort, selected, select }: TableProps) {
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
          {!narrow && (
            <>
              <th>Guards</th>
              <th>Reach</th>
              <th className="number">Items</th>
              <th className="number">Size</th>
              <Heading {...heading} by="visited" name="Last visit" />
              <th>By</th>
            </>
          )}
        </tr>
      </thead>
      <tbody>
        {shares.map((share) => (
          <Row
            key={share.id}
            share={share}
            to={`/shares/${share.id}${query}`}
            chosen={share.id === chosen}
            narrow={narrow}
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

interface RowProps {
  share: ShareRow;
  to: string;
  chosen: boolean;
  narrow: boolean;
  selected: boolean;
  select: (on: boolean) => void;
}

function Row({ share, to, chosen, narrow, selected, select }: RowProps) {
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
      {!narrow && (
        <>
          <td className="quiet">{guardWords(share)}</td>
          <td>
            <ReachLamp mark={share.reach} portability={share.portability} brief />
          </td>
          <td className="number wide-only">{share.itemCount}</td>
          <td className="number">
            <Size bytes={share.totalBytes} />
          </td>
          <td>{share.lastVisitAt ? <When at={share.lastVisitAt} /> : <span className="quiet">none yet</span>}</td>
          <td className="quiet">{share.createdBy}</td>
        </>
      )}
    </tr>
  );
}
