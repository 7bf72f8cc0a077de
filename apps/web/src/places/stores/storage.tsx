import type { StoreGrowth, StoreUsage } from '@quay/contract';
import { countOf, dayInWords, formatSize, GIGABYTES_RANGE, typedNumber } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';
import { now, useMe, useZone } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import { Size } from '../../ui/words';
import { bytesOf, gigabytesField } from './gigabytes';
import { litterQuery, quotasQuery, usageQuery } from './queries';
import { Policy } from './policy';
import { Tasks } from './tasks';
import { Treemap } from './treemap';
import { UsageChart } from './usage-chart';
import { useTrash } from './verbs';
import './storage.scss';

/** What fills a store, when it will be full, its rules, and the work of keeping it in order. */
export function Storage() {
  const { storeId = '' } = useParams();
  const { data: usage, error, refetch } = useQuery(usageQuery(storeId));
  const me = useMe();
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!usage) return <SkeletonRows />;
  const manages = usage.store.acts.includes('manage');
  return (
    <>
      <Title usage={usage} />
      <Treemap tree={usage.tree} storeId={storeId} />
      <div className="two-columns">
        <section>
          {usage.growth ? (
            <Growth used={usage.store.usedBytes} growth={usage.growth} />
          ) : (
            <p className="quiet">You see a part of this store. How all of it grows is shown to those who see it.</p>
          )}
          {usage.store.acts.includes('remove') && <Litter storeId={storeId} />}
        </section>
        <section>
          {manages ? (
            <Policy key={JSON.stringify(usage.policy)} usage={usage} admin={me.duties.includes('run-server')} />
          ) : (
            <p>{usage.policyWords}</p>
          )}
          {me.duties.includes('run-people') && <Quotas />}
          {me.duties.includes('run-server') && usage.store.kind === 'common' && <Tasks store={usage.store} />}
        </section>
      </div>
    </>
  );
}

function Growth({ used, growth }: { used: number; growth: StoreGrowth }) {
  return (
    <>
      <h2 className="small-head">Use over time</h2>
      <UsageChart used={used} growth={growth} />
      <h2 className="small-head mt-3">Brought by</h2>
      <dl className="facts">
        {growth.people.map((p) => (
          <div key={p.name} className="d-contents">
            <dt>{p.name}</dt>
            <dd>
              <Size bytes={p.usedBytes} />
            </dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function Title({ usage }: { usage: StoreUsage }) {
  const { store, growth } = usage;
  const name = store.kind === 'home' ? 'My files' : store.name;
  return (
    <div className="title-line">
      <h1>
        {name} holds {formatSize(store.usedBytes)}
        {growth ? <Outlook used={store.usedBytes} growth={growth} /> : ' that you see.'}
      </h1>
      <div className="tools">
        <Link className="btn btn-plain" to={`/stores/${store.id}/trash`}>
          Trash
        </Link>
        <Link className="btn btn-plain" to={`/stores/${store.rootId}`}>
          Back to the store
        </Link>
      </div>
    </div>
  );
}

/** What is left, and when it will be full. */
function Outlook({ used, growth }: { used: number; growth: StoreGrowth }) {
  const zone = useZone();
  const { forecast, capacityBytes, capacityOf } = growth;
  const left = Math.max(0, capacityBytes - used);
  const soon = forecast?.fullAt && Date.parse(forecast.fullAt) - now() < 60 * DAY_MS;
  const trend = trendWords(growth, zone);
  return (
    <>
      ; {formatSize(left)} {capacityOf === 'quota' ? 'of its quota is' : 'of the disk are'} left.{' '}
      <span className={soon ? 'needs-hand' : 'quiet'}>{trend}</span>
    </>
  );
}

const DAY_MS = 86_400_000;

function trendWords({ forecast }: StoreGrowth, zone: string): string {
  if (!forecast) return 'A week of use is needed to tell when it will be full.';
  if (forecast.fullAt === null) return 'On the present trend it does not fill up.';
  if (Date.parse(forecast.fullAt) - now() > 3650 * DAY_MS)
    return 'At the present pace that lasts for more than ten years.';
  const day = (at: string) => dayInWords(Date.parse(at), now(), zone);
  const earliest = forecast.earliest ? `, at the earliest ${day(forecast.earliest)}` : '';
  return `Full around ${day(forecast.fullAt)}${earliest}.`;
}

function Litter({ storeId }: { storeId: string }) {
  const { data } = useQuery(litterQuery(storeId));
  const { trash } = useTrash();
  if (!data || data.total === 0) return null;
  const { items: litter, total, totalBytes } = data;
  return (
    <>
      <h2 className="small-head mt-3">Left behind by desktop systems</h2>
      <p className="mb-1">
        {countOf(total, 'item')}, {formatSize(totalBytes)}:{' '}
        {litter
          .slice(0, 4)
          .map((l) => `${l.name} in ${l.place}`)
          .join(', ')}
        {total > 4 && ` and ${total - 4} more`}. Hidden, and never published.
      </p>
      <Button variant="plain" size="sm" disabled={trash.isPending} onClick={() => trash.mutate(litter.slice(0, 200))}>
        Move {total > 200 ? 'the first 200' : 'them'} to the trash
      </Button>
    </>
  );
}

function Quotas() {
  const { data: people = [], refetch } = useQuery(quotasQuery);
  const [editing, setEditing] = useState<string | null>(null);
  const save = (id: string, text: string) => {
    const { value, fault } = typedNumber(text, GIGABYTES_RANGE);
    if (fault) {
      tellFailure(new Error(`The quota was not changed. ${fault}`));
      return;
    }
    void api('PUT', `/api/quotas/${id}`, { quotaBytes: bytesOf(value) })
      .then(() => refetch(), tellFailure)
      .finally(() => setEditing(null));
  };
  return (
    <>
      <h2 className="small-head mt-3">Quotas of people, over all stores</h2>
      <table className="rows compact">
        <tbody>
          {people.map((p) => (
            <tr key={p.id}>
              <td>{p.name}</td>
              <td className="number">
                <Size bytes={p.usedBytes} />
              </td>
              <td>
                {editing === p.id ? (
                  <Form.Control
                    autoFocus
                    size="sm"
                    aria-label={`Quota of ${p.name} in GB`}
                    placeholder="GB; empty for none"
                    defaultValue={gigabytesField(p.quotaBytes)}
                    onBlur={(e) => save(p.id, e.target.value)}
                    onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
                  />
                ) : (
                  <button type="button" className="link" onClick={() => setEditing(p.id)}>
                    {p.quotaBytes === null ? 'no quota' : `of ${formatSize(p.quotaBytes)}`}
                    <span className="visually-hidden">, change the quota of {p.name}</span>
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
