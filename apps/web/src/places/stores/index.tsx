import { formatSize, LEVEL_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { useKeys } from '../../ui/keys';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { FoundTable } from './find';
import { iconOf } from './icons';
import { ownQuotaQuery, pinsQuery, recentQuery } from './queries';
import { SharedWithMeList } from './shared-with-me';
import './index.scss';

const ICONS = { home: 'bi-person', common: 'bi-hdd-stack', sealed: 'bi-lock' } as const;

/** The storage areas that the person may see, what they have pinned, and what was changed last. */
export function Stores() {
  const { data: stores, error, isPending, refetch } = useQuery(storesQuery);
  const { data: pins } = useQuery(pinsQuery);
  const { data: recent } = useQuery(recentQuery);
  const { data: own } = useQuery(ownQuotaQuery);
  const navigate = useNavigate();
  useKeys({ '/': () => void navigate('/stores/find') });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const used = stores?.reduce((sum, s) => sum + s.usedBytes, 0) ?? 0;
  return (
    <>
      <div className="title-line">
        <h1>
          {stores ? `${stores.length} stores, ${formatSize(used)}.` : 'Stores'}{' '}
          <span className="quiet">
            {own
              ? `You brought ${formatSize(own.usedBytes)}${own.quotaBytes === null ? '' : ` of the ${formatSize(own.quotaBytes)} you may`}. `
              : ''}
            Versions and trash are counted in.
          </span>
        </h1>
        <div className="tools">
          <Link className="btn btn-plain" to="/stores/find">
            <i className="bi bi-search" aria-hidden /> Find files
          </Link>
        </div>
      </div>
      {isPending ? (
        <SkeletonRows count={4} />
      ) : stores.length === 0 ? (
        <Empty>Here are the stores that are shared with you. The admin has not given you any yet.</Empty>
      ) : (
        <div className="store-list">
          {stores.map((s) => (
            <div key={s.rootId} className="store-row">
              <Link to={`/stores/${s.rootId}`}>
                <i className={`bi ${s.part ? 'bi-folder' : ICONS[s.kind]}`} aria-hidden />
                <span>
                  <strong>{s.kind === 'home' ? 'My files' : s.name}</strong>{' '}
                  <span className="quiet">{s.archivedAt ? 'archived' : `you ${LEVEL_WORDS[s.level]}`}</span>
                </span>
                <span className="number quiet">{s.itemCount.toLocaleString('en-GB')} files</span>
                <span className="number">
                  <Size bytes={s.usedBytes} />
                  {s.quotaBytes !== null && <span className="quiet"> of {formatSize(s.quotaBytes)}</span>}
                </span>
                <span className="number quiet">{s.changedAt && <When at={s.changedAt} brief />}</span>
              </Link>
              <Link className="btn btn-plain btn-sm" to={`/stores/${s.id}/storage`}>
                Storage<span className="visually-hidden"> of {s.kind === 'home' ? 'my files' : s.name}</span>
              </Link>
            </div>
          ))}
        </div>
      )}
      <SharedWithMeList />
      {pins && pins.items.length > 0 && (
        <section className="mt-4">
          <h2 className="small-head">Pinned</h2>
          <div className="pin-list">
            {pins.items.map((i) => (
              <Link key={i.id} to={i.kind === 'folder' ? `/stores/${i.id}` : `/stores/${i.parentId}?show=${i.id}`}>
                <i className={`bi ${iconOf(i)}`} aria-hidden /> {i.name}{' '}
                <span className="quiet">{i.path.at(-1)?.name}</span>
              </Link>
            ))}
          </div>
        </section>
      )}
      {recent && recent.items.length > 0 && (
        <section className="mt-4">
          <h2 className="small-head">Changed last</h2>
          <FoundTable items={recent.items.slice(0, 12)} />
        </section>
      )}
    </>
  );
}
