import type { StoreGrowth, StorePolicyText, StoreUsage } from '@quay/contract';
import {
  countOf,
  dayInWords,
  formatSize,
  DAYS_RANGE,
  GIGABYTE,
  GIGABYTES_RANGE,
  typedNumber,
  VERSIONS_KEPT_DEFAULT,
  VERSIONS_KEPT_RANGE,
} from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { ApiProblem } from '../../ui/api';
import { now, useMe, useZone } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import { Size } from '../../ui/words';
import { effectQuery, litterQuery, quotasQuery, usageQuery } from './queries';
import { useChangePolicy, useTrash } from './verbs';
import { Tasks } from './tasks';
import { Treemap } from './treemap';
import { UsageChart } from './usage-chart';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';

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
  const soon = forecast?.fullAt && Date.parse(forecast.fullAt) - now() < 60 * 86_400_000;
  const far = forecast?.fullAt && Date.parse(forecast.fullAt) - now() > 3650 * 86_400_000;
  const trend = far
    ? 'At the present pace that lasts for more than ten years.'
    : !forecast
      ? 'A week of use is needed to tell when it will be full.'
      : forecast.fullAt === null
        ? 'On the present trend it does not fill up.'
        : `Full around ${dayInWords(Date.parse(forecast.fullAt), now(), zone)}${forecast.earliest ? `, at the earliest ${dayInWords(Date.parse(forecast.earliest), now(), zone)}` : ''}.`;
  return (
    <>
      ; {formatSize(left)} {capacityOf === 'quota' ? 'of its quota is' : 'of the disk are'} left.{' '}
      <span className={soon ? 'needs-hand' : 'quiet'}>{trend}</span>
    </>
  );
}

function Policy({ usage, admin }: { usage: StoreUsage; admin: boolean }) {
  const { policy, store } = usage;
  const [form, setForm] = useState({
    quota: giga(policy.quotaBytes),
    largest: giga(policy.largestFileBytes),
    types: policy.allowedTypes.join(' '),
    kept: String(policy.versionsKept),
    thin: String(policy.thinAfterDays ?? ''),
    trash: String(policy.trashDays ?? ''),
  });
  const changePolicy = useChangePolicy();
  const typed = {
    quota: typedNumber(form.quota, GIGABYTES_RANGE),
    largest: typedNumber(form.largest, GIGABYTES_RANGE),
    kept: typedNumber(form.kept, VERSIONS_KEPT_RANGE),
    thin: typedNumber(form.thin, DAYS_RANGE),
    trash: typedNumber(form.trash, DAYS_RANGE),
  };
  const kept = typed.kept.value ?? VERSIONS_KEPT_DEFAULT;
  const thin = typed.thin.value;
  const sound = Object.values(typed).every((t) => t.fault === null);
  const { data: effect } = useQuery({ ...effectQuery(store.id, kept, thin), enabled: sound });
  const set = (name: keyof typeof form) => (e: { target: { value: string } }) =>
    setForm({ ...form, [name]: e.target.value });
  const save = () => {
    const change: StorePolicyText = {
      quotaBytes: bytesOf(typed.quota.value),
      largestFileBytes: bytesOf(typed.largest.value),
      allowedTypes: form.types
        .toLowerCase()
        .split(/[\s,.;]+/)
        .filter(Boolean),
      versionsKept: kept,
      thinAfterDays: thin,
      trashDays: typed.trash.value,
    };
    const { quotaBytes, ...others } = change;
    changePolicy.mutate({ storeId: store.id, change: admin ? { quotaBytes, ...others } : others });
  };
  const fault = (name: keyof typeof form, field: string) =>
    (name === 'types' ? null : typed[name].fault) ??
    (changePolicy.error instanceof ApiProblem ? changePolicy.error.field(field) : null);
  const line = (
    name: keyof typeof form,
    field: keyof StorePolicyText,
    label: string,
    unit: string,
    hint: string,
    width = '6rem',
  ) => (
    <div className="rule-line">
      <Form.Label htmlFor={`rule-${name}`}>{label}</Form.Label>
      <Form.Control
        id={`rule-${name}`}
        size="sm"
        ref={(e: HTMLInputElement | null) => void (e && (e.style.width = width))}
        value={form[name]}
        isInvalid={Boolean(fault(name, field))}
        placeholder={hint}
        onChange={set(name)}
      />
      <span className="quiet">{unit}</span>
      {fault(name, field) && <span className="field-fault">{fault(name, field)}</span>}
    </div>
  );
  return (
    <Form
      className="rules"
      onSubmit={(e) => {
        e.preventDefault();
        save();
      }}
    >
      <h2 className="small-head">Rules</h2>
      {admin && line('quota', 'quotaBytes', 'Quota', 'GB', 'none')}
      {line('largest', 'largestFileBytes', 'Largest file', 'GB', 'any')}
      {line('types', 'allowedTypes', 'Types', '', 'all; or: pdf dxf csv', '12rem')}
      {line('kept', 'versionsKept', 'Versions kept', 'of each file', '32')}
      {line('thin', 'thinAfterDays', 'One a week after', 'days', 'never')}
      {line('trash', 'trashDays', 'Trash kept', 'days', 'for ever')}
      {sound && effect && (
        <p className={effect.versions > 0 ? 'rule-effect some' : 'rule-effect'}>
          {effect.versions === 0
            ? 'These rules would remove no version today.'
            : `These rules would remove ${countOf(effect.versions, 'version')} (${formatSize(effect.bytes)}): ${effect.examples
                .slice(0, 3)
                .map((e) => `${e.name} v${e.number}`)
                .join(', ')}${effect.versions > 3 ? ' ...' : ''}`}
        </p>
      )}
      <Button type="submit" disabled={!sound || changePolicy.isPending}>
        Save the rules
      </Button>
    </Form>
  );
}

function Litter({ storeId }: { storeId: string }) {
  const { data: litter = [] } = useQuery(litterQuery(storeId));
  const { trash } = useTrash();
  if (litter.length === 0) return null;
  return (
    <>
      <h2 className="small-head mt-3">Left behind by desktop systems</h2>
      <p className="mb-1">
        {countOf(litter.length, 'item')}, {formatSize(litter.reduce((sum, l) => sum + l.sizeBytes, 0))}:{' '}
        {litter
          .slice(0, 4)
          .map((l) => `${l.name} in ${l.place}`)
          .join(', ')}
        {litter.length > 4 && ` and ${litter.length - 4} more`}. Hidden, and never published.
      </p>
      <Button variant="plain" size="sm" disabled={trash.isPending} onClick={() => trash.mutate(litter.slice(0, 200))}>
        Move {litter.length > 200 ? 'the first 200' : 'them'} to the trash
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
                    defaultValue={giga(p.quotaBytes)}
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

/** Bytes as gigabytes for a field; empty for none. */
function giga(bytes: number | null): string {
  return bytes === null ? '' : String(bytes / GIGABYTE);
}

const bytesOf = (gigabytes: number | null): number | null =>
  gigabytes === null ? null : Math.round(gigabytes * GIGABYTE);
