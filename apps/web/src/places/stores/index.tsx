import { formatSize, LEVEL_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';

const ICONS = { home: 'bi-person', common: 'bi-hdd-stack', sealed: 'bi-lock' } as const;

/** The storage areas that the person may see. */
export function Stores() {
  const { data: stores, error, isPending, refetch } = useQuery(storesQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const used = stores?.reduce((sum, s) => sum + s.usedBytes, 0) ?? 0;
  return (
    <>
      <div className="title-line">
        <h1>
          {stores ? `${stores.length} stores, ${formatSize(used)}.` : 'Stores'} <span className="quiet">Versions and trash are counted in.</span>
        </h1>
      </div>
      {isPending ? (
        <SkeletonRows count={4} />
      ) : stores.length === 0 ? (
        <Empty>Here are the stores that are shared with you. The admin has not given you any yet.</Empty>
      ) : (
        <div className="store-list">
          {stores.map((s) => (
            <Link key={s.id} to={`/stores/${s.rootId}`}>
              <i className={`bi ${ICONS[s.kind]}`} aria-hidden />
              <span>
                <strong>{s.kind === 'home' ? 'My files' : s.name}</strong> <span className="quiet">you {LEVEL_WORDS[s.level]}</span>
              </span>
              <span className="number quiet">{s.itemCount.toLocaleString('en-GB')} files</span>
              <span className="number">
                <Size bytes={s.usedBytes} />
              </span>
              <span className="number quiet">{s.changedAt && <When at={s.changedAt} brief />}</span>
            </Link>
          ))}
        </div>
      )}
    </>
  );
}
