import type { AddressRow, ChangeShare, ShareRow } from '@quay/contract';
import { countOf, extendedBy, type BackupFinding, type FindingKind } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import { useKeys } from '../../ui/keys';
import { addressesQuery, backupsQuery, ledgerQuery, sharesTodayQuery, useUndoableChange } from '../../ui/queries';
import { HandOverFindings, useHandOverFindings } from './hand-over-findings';
import { TrayFindings, useIntakes } from './tray-findings';
import { LeftList } from './left';
import { PeopleFindings, usePeopleFindings } from './people-findings';
import { useMe, useNow, useZone } from '../../ui/session';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { useChartSpan, WindowChart } from './window-chart';
import './index.scss';

/** What is open, what needs a hand, what happened. */
export function Today() {
  const span = useChartSpan();
  const { data, error, refetch } = useQuery(sharesTodayQuery(...span));
  const navigate = useNavigate();
  useKeys({ n: () => void navigate('/stores') });
  const me = useMe();
  const { data: addresses } = useQuery({ ...addressesQuery, enabled: me.duties.includes('run-reach') });
  const ways = (addresses ?? []).filter((a) => a.trouble !== null || a.lapsing !== null);
  const { data: backups } = useQuery({ ...backupsQuery, enabled: me.duties.includes('run-server') });
  // That there are none at all is among what is left to do.
  const copies = (backups?.findings ?? []).filter((finding) => finding.kind !== 'none');
  const ofPeople = usePeopleFindings();
  const handedOver = useHandOverFindings();
  const intakes = useIntakes();
  const inTrays = intakes.filter((row) => row.waiting > 0);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const found = [data?.needing, ways, copies, ofPeople?.found, handedOver, inTrays];
  const needing = found.reduce((sum, of) => sum + (of?.length ?? 0), data?.moreNeeding ?? 0);
  return (
    <>
      <div className="title-line">
        <h1>
          {data
            ? data.open === 0
              ? 'Nothing is open.'
              : `${countOf(data.open, 'share is', 'shares are')} open.`
            : 'Today'}{' '}
          {needing > 0 && <span className="hand">{countOf(needing, 'thing needs', 'things need')} a hand.</span>}
        </h1>
        <div className="tools">
          <Link className="btn btn-primary" to="/stores">
            <i className="bi bi-plus-lg" aria-hidden /> New share
          </Link>
        </div>
      </div>
      {!data ? (
        <SkeletonRows />
      ) : !data.any && intakes.length === 0 ? (
        <Empty
          action={
            <Link className="btn btn-primary" to="/stores">
              Go to the stores
            </Link>
          }
        >
          Here you see when your shares are open. Put files from a store on the slip to make the first.
        </Empty>
      ) : (
        <WindowChart shares={data.windows} intakes={intakes} more={data.moreWindows} whole={span} />
      )}
      <div className="two-columns">
        <section>
          <LeftList />
          <h2 className="small-head">Needs a hand</h2>
          {needing === 0 && <p className="quiet">Nothing does.</p>}
          {copies.map((finding) => (
            <BackupRow key={finding.kind + finding.words} finding={finding} />
          ))}
          {ways.map((a) => (
            <WayRow key={a.id} address={a} />
          ))}
          <HandOverFindings found={handedOver} />
          <TrayFindings found={inTrays} />
          <PeopleFindings of={ofPeople} kinds={['kept', 'guest-alone']} />
          {data?.needing.map(({ kind, share }) => (
            <FindingRow key={share.id} kind={kind} share={share} />
          ))}
          <PeopleFindings of={ofPeople} kinds={['guest-ends']} />
          {data && data.moreNeeding > 0 && (
            <p className="quiet">And {data.moreNeeding} more, which show when some of these are done.</p>
          )}
        </section>
        <Happened />
      </div>
    </>
  );
}

/** Backups that fail are noticed when somebody needs one: too late. */
function BackupRow({ finding }: { finding: BackupFinding }) {
  return (
    <div className="finding">
      <span className="flag harm" />
      <div>
        <Link className="fw-semibold link-body-emphasis text-decoration-none" to="/settings/backups">
          {finding.words}
        </Link>
        <div className="quiet small">{finding.remedy}</div>
      </div>
      <Link className="btn btn-plain btn-sm" to="/settings/backups">
        See the backups
      </Link>
    </div>
  );
}

/** An address that cannot be reached by some, or would lapse. */
function WayRow({ address }: { address: AddressRow }) {
  return (
    <div className="finding">
      <span className={address.mark === 'fail' ? 'flag harm' : 'flag'} />
      <div>
        <Link className="fw-semibold link-body-emphasis text-decoration-none" to={`/reach/addresses/${address.id}`}>
          {address.host}: {address.trouble?.words ?? 'a renewal failed'}
        </Link>
        <div className="quiet small">{address.lapsing ?? address.trouble?.reason}</div>
      </div>
      <Link className="btn btn-plain btn-sm" to={`/reach/addresses/${address.id}`}>
        See the way in
      </Link>
    </div>
  );
}

const WORDS: Record<FindingKind, { title: (title: string) => string; detail: string; verb: string }> = {
  broken: {
    title: (t) => `${t} has lost a file`,
    detail: 'Visitors are told that the files are not there.',
    verb: 'See what is missing',
  },
  barred: {
    title: (t) => `A rule of the office keeps ${t} closed`,
    detail: 'It opens again when it keeps to the rule.',
    verb: 'See what would do',
  },
  'open-for-ever': {
    title: (t) => `${t} is open without end`,
    detail: 'Nobody will close it unless somebody remembers.',
    verb: 'Close in 30 days',
  },
  'used-up-early': {
    title: (t) => `All visits of ${t} are used`,
    detail: 'Its window is still open, so somebody may be waiting.',
    verb: 'Allow 5 more',
  },
  'closes-soon': { title: (t) => `${t} closes within a day`, detail: '', verb: 'Extend a week' },
};

function FindingRow({ kind, share }: { kind: FindingKind; share: ShareRow }) {
  const words = WORDS[kind];
  const remedy = useRemedy(kind, share);
  return (
    <div className="finding">
      <span className={kind === 'broken' || kind === 'barred' ? 'flag harm' : 'flag'} />
      <div>
        <Link className="fw-semibold link-body-emphasis text-decoration-none" to={`/shares/${share.id}`}>
          {words.title(share.title)}
        </Link>
        <div className="quiet small">
          {kind === 'closes-soon' && share.closesAt ? (
            <>
              on <When at={share.closesAt} />; {countOf(share.visitsUsed, 'visit')} so far
            </>
          ) : (
            words.detail
          )}
        </div>
      </div>
      <Button variant="plain" size="sm" onClick={remedy}>
        {words.verb}
      </Button>
    </div>
  );
}

/** The one-click remedy of a finding. */
function useRemedy(kind: FindingKind, share: ShareRow): () => void {
  const navigate = useNavigate();
  const change = useUndoableChange();
  const zone = useZone();
  const now = useNow();
  const window = { opensAt: share.opensAt, closesAt: share.closesAt };
  const until = (from: number, days: number) => ({
    opensAt: share.opensAt,
    closesAt: new Date(extendedBy(from, days, zone)).toISOString(),
  });
  const ask = (asked: ChangeShare, before: ChangeShare, words: string) => void change(share.id, asked, before, words);
  switch (kind) {
    case 'broken':
    case 'barred':
      return () => void navigate(`/shares/${share.id}`);
    case 'open-for-ever':
      return () => ask({ window: until(now, 30) }, { window }, `${share.title} closes in 30 days.`);
    case 'used-up-early':
      return () =>
        ask(
          { visitLimit: (share.visitLimit ?? 0) + 5 },
          { visitLimit: share.visitLimit },
          `Five more visits for ${share.title}.`,
        );
    case 'closes-soon':
      return () =>
        ask(
          { window: until(Date.parse(share.closesAt ?? ''), 7) },
          { window },
          `${share.title} is extended by a week.`,
        );
  }
}

function Happened() {
  const { data, error } = useQuery(ledgerQuery(12));
  return (
    <section>
      <h2 className="small-head">What happened last</h2>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <SkeletonRows count={5} />
      ) : (
        data.entries.map((e) => (
          <div key={e.seq} className="happened">
            <When at={e.at} />
            <span>
              {e.who}{' '}
              {e.shareId ? (
                <Link className="link-body-emphasis" to={`/shares/${e.shareId}`}>
                  {e.words}
                </Link>
              ) : (
                e.words
              )}
            </span>
          </div>
        ))
      )}
    </section>
  );
}
