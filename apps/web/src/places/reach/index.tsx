import type { AddressRow, AddressSheet } from '@quay/contract';
import { countOf, reachSentence, STAGES, traceVerdict, VANTAGES, type Stage, type Vantage } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { useKeys } from '../../ui/keys';
import { addressesQuery } from '../../ui/queries';
import { LAMP } from '../../ui/reach-lamp';
import { useSearch } from '../../ui/search';
import { StageShape } from '../../ui/stage-shape';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { AddAddress } from './components/add-address';
import { Cause } from './components/cause';
import { Guide } from './components/guide';
import { Matrix } from './components/matrix';
import { Settings } from './components/settings';
import { ExposureView, History, Links, MARK_SAYS, Renewals, Telephone } from './components/views';
import { addressQuery, useCheck, useRemedy } from './queries';
import { WAY_WORDS } from './words';
import './index.scss';

const VIEWS = {
  guide: 'Guide',
  renewals: 'Renewals',
  exposure: 'What answers',
  telephone: 'By telephone',
  links: 'Links',
  history: 'Checks',
  settings: 'Settings',
} as const;
type View = keyof typeof VIEWS;

/** How people get to the server, from where, and the proof. */
export function Reach() {
  const { addressId } = useParams();
  const [adding, setAdding] = useState(false);
  const { data: addresses, error, refetch } = useQuery(addressesQuery);
  useKeys({ n: () => setAdding(true) });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const chosen =
    addresses?.find((a) => a.id === addressId) ?? addresses?.find((a) => a.wayIn !== 'office') ?? addresses?.[0];
  return (
    <>
      {!addresses ? (
        <SkeletonRows />
      ) : chosen ? (
        <AddressPage key={chosen.id} id={chosen.id} addresses={addresses} add={() => setAdding(true)} />
      ) : (
        <>
          <div className="title-line">
            <h1>Nobody outside can get in yet.</h1>
          </div>
          <Empty action={<Button onClick={() => setAdding(true)}>Add an address</Button>}>
            An address is what links are built on: a name that leads from outside to this server. Here it is set up step
            by step, and proved.
          </Empty>
        </>
      )}
      <AddAddress show={adding} close={() => setAdding(false)} />
    </>
  );
}

function AddressPage({ id, addresses, add }: { id: string; addresses: AddressRow[]; add: () => void }) {
  const { data: address, error, refetch } = useQuery(addressQuery(id));
  const check = useCheck(id);
  const [params, changeAddress] = useSearch();
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!address) return <SkeletonRows />;
  const { good, bad } = titleOf(address);
  const view = (Object.keys(VIEWS) as View[]).find((v) => v === params.get('view')) ?? 'guide';
  const set = (change: Record<string, string>) => changeAddress(change, { replace: true });
  return (
    <>
      <div className="title-line">
        <h1>
          {good} {bad && <span className="hand">{bad}</span>}
        </h1>
        <div className="tools">
          {address.check && (
            <span className="quiet align-self-center">
              checked <When at={address.check.at} />
            </span>
          )}
          <Button variant="plain" disabled={check.isPending} onClick={() => check.mutate(undefined)}>
            {check.isPending ? 'Checking …' : 'Check now'}
          </Button>
          <Button onClick={add}>Add an address</Button>
        </div>
      </div>
      <AddressLine address={address} addresses={addresses} />
      {address.check ? (
        <Found address={address} params={params} set={set} />
      ) : (
        <Empty action={<Button onClick={() => check.mutate(undefined)}>Check now</Button>}>
          Nobody has looked yet whether this address can be reached.
        </Empty>
      )}
      <div className="filters views" role="group" aria-label="More about this address">
        {(Object.entries(VIEWS) as [View, string][]).map(([key, words]) => (
          <button
            key={key}
            type="button"
            className="btn btn-choice"
            aria-pressed={view === key}
            onClick={() => set({ view: key })}
          >
            {words}{' '}
            {key === 'guide' && address.guide.length > 0
              ? `${address.guide.filter((g) => g.done).length} of ${address.guide.length}`
              : ''}
          </button>
        ))}
        <Link to="/reach/plan" className="ms-auto">
          What would work on another line?
        </Link>
      </div>
      <section className="reach-view" aria-label={VIEWS[view]}>
        {view === 'guide' && <Guide address={address} />}
        {view === 'renewals' && <Renewals address={address} />}
        {view === 'exposure' && <ExposureView address={address} />}
        {view === 'telephone' && <Telephone address={address} />}
        {view === 'links' && <Links address={address} others={addresses.filter((a) => a.id !== id)} />}
        {view === 'history' && <History address={address} />}
        {view === 'settings' && <Settings address={address} />}
      </section>
    </>
  );
}

/** The situation in words. An address for the office only is judged by those in the office. */
function titleOf(address: AddressSheet): { good: string; bad: string } {
  if (!address.check) return { good: '', bad: 'Nobody has looked yet.' };
  if (address.wayIn !== 'office') return reachSentence(address.check.vantages);
  return address.check.mark === 'ok'
    ? { good: 'For people in the office only.', bad: '' }
    : { good: '', bad: 'People in the office cannot get in.' };
}

function AddressLine({ address, addresses }: { address: AddressSheet; addresses: AddressRow[] }) {
  return (
    <div className="address-line">
      <span className="mono address-text">{address.text}</span>
      <span className="quiet">{WAY_WORDS[address.wayIn]}</span>
      {address.isDefault && <span className="quiet">new links are built on it</span>}
      <span className="quiet ms-auto">used by {countOf(address.shareCount, 'share')}</span>
      {addresses.length > 1 && (
        <nav aria-label="Addresses" className="other-addresses">
          {addresses.map((a) => (
            <Link key={a.id} to={`/reach/addresses/${a.id}`} aria-current={a.id === address.id ? 'page' : undefined}>
              <StageShape mark={LAMP[a.mark]} /> {a.host}
              <span className="visually-hidden">, {MARK_SAYS[a.mark]}</span>
            </Link>
          ))}
        </nav>
      )}
    </div>
  );
}

/** While the own way in fails, the relay is offered: nothing has to be opened for it. */
function FallBack({ address }: { address: AddressSheet }) {
  const remedy = useRemedy(address.id);
  return (
    <p className="offer">
      Until this is mended, outsiders can come through the relay: links stay as they are, and it cannot read what
      passes.{' '}
      <Button
        size="sm"
        variant="plain"
        disabled={remedy.isPending}
        onClick={() => remedy.mutate({ act: 'use-relay', vantage: 'outside' })}
      >
        {remedy.isPending ? 'At it …' : 'Go through the relay'}
      </Button>
    </p>
  );
}

/** The matrix and, below it, the chosen stage: at first the one that is worst. */
function Found({
  address,
  params,
  set,
}: {
  address: AddressSheet;
  params: URLSearchParams;
  set: (change: Record<string, string>) => void;
}) {
  const vantages = address.check?.vantages ?? [];
  const [from, at] = (params.get('at') ?? '').split('.');
  const must = address.wayIn === 'office' ? vantages.find((v) => v.vantage === 'office') : undefined;
  const worst =
    must ??
    vantages.find((v) => v.trace && traceVerdict(v.trace).mark === 'fail') ??
    vantages.find((v) => v.trace && traceVerdict(v.trace).mark === 'warn') ??
    vantages.find((v) => v.trace);
  const vantage: Vantage = VANTAGES.find((v) => v === from) ?? worst?.vantage ?? 'outside';
  const result = vantages.find((v) => v.vantage === vantage);
  const stage: Stage = STAGES.find((s) => s === at) ?? (result?.trace && traceVerdict(result.trace).stage) ?? 'name';
  const found = result?.trace?.find((s) => s.stage === stage);
  return (
    <>
      <Matrix
        vantages={vantages}
        must={address.wayIn === 'office' ? 'office' : null}
        chosen={{ vantage, stage }}
        choose={(cell) => set({ at: `${cell.vantage}.${cell.stage}` })}
      />
      {result && found && <Cause address={address} from={result} stage={found} />}
      {address.check?.mark === 'fail' && (address.wayIn === 'mapping' || address.wayIn === 'fixed') && (
        <FallBack address={address} />
      )}
    </>
  );
}
