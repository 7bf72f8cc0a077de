import type { AddressRow, AddressSheet, AffectedLink } from '@quay/contract';
import { countOf, distanceInWords, type ReachMark } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { scaleTime } from 'd3';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { CopyLine } from '../../../ui/copy';
import { QrCode } from '../../../ui/qr';
import { LAMP } from '../../../ui/reach-lamp';
import { useNow } from '../../../ui/session';
import { StageShape } from '../../../ui/stage-shape';
import { Failure, SkeletonRows } from '../../../ui/states';
import { When } from '../../../ui/words';
import { exposureQuery, linksQuery, telephoneQuery, useMoveLinks, useTelephone } from '../queries';
import { WHY_WORDS } from '../words';
import './views.scss';

export const MARK_SAYS: Record<ReachMark, string> = {
  ok: 'reachable',
  warn: 'reachable, and something needs a hand',
  fail: 'not reachable',
  unknown: 'not checked yet',
};

const DAY_MS = 86_400_000;

/** What lapses, when, and when the program renews it, on one line of time. */
export function Renewals({ address }: { address: AddressSheet }) {
  const now = useNow();
  if (address.upkeep.length === 0) return <p className="quiet">Nothing here lapses.</p>;
  const ends = address.upkeep.flatMap((u) => (u.endsAt ? [Date.parse(u.endsAt)] : []));
  const until = Math.max(now + DAY_MS, ...ends);
  const x = scaleTime().domain([now, until]).range([0, 100]);
  const place = (at: string) => Math.max(0, Math.min(100, x(Date.parse(at))));
  return (
    <div className="renewals">
      {address.upkeep.map((u) => (
        <div key={u.kind + u.words} className={u.failure ? 'renewal failed' : 'renewal'}>
          <div>
            <span className="fw-semibold">{u.words}</span>
            <div className="small quiet">
              {u.endsAt ? (
                <>
                  ends <When at={u.endsAt} />
                </>
              ) : (
                'does not lapse'
              )}
              {u.renewsAt ? (
                <>; renewed {distanceInWords(Date.parse(u.renewsAt), now)}</>
              ) : u.endsAt ? (
                '; renew it by hand'
              ) : (
                ''
              )}
            </div>
            {u.failure && (
              <div className="field-fault">Renewing failed: {u.failure} What serves now goes on serving.</div>
            )}
          </div>
          {u.endsAt && (
            <svg viewBox="0 0 100 10" preserveAspectRatio="none" aria-hidden>
              <line x1="0" x2={place(u.endsAt)} y1="5" y2="5" />
              {u.renewsAt && (
                <rect
                  x={place(u.renewsAt)}
                  width={Math.max(0.4, place(u.endsAt) - place(u.renewsAt))}
                  y="2"
                  height="6"
                />
              )}
            </svg>
          )}
        </div>
      ))}
      <p className="small quiet mb-0">
        The lines begin now; the longest ends {distanceInWords(until, now)}. Where they are thick, it is being renewed.
      </p>
    </div>
  );
}

/** What answers from outside, and whether it should. */
export function ExposureView({ address }: { address: AddressSheet }) {
  const { data, error, isFetching, refetch } = useQuery(exposureQuery(address.id));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  if (data.unavailable) return <p className="quiet">{data.unavailable}</p>;
  const wrong = data.rows.filter((r) => r.verdict !== 'as-it-should');
  return (
    <>
      <p>
        {wrong.length === 0
          ? 'Only what should answer does.'
          : `${countOf(wrong.length, 'thing is', 'things are')} not as it should be.`}{' '}
        <Button size="sm" variant="plain" disabled={isFetching} onClick={() => void refetch()}>
          {isFetching ? 'Looking …' : 'Look again'}
        </Button>
      </p>
      <table className="table table-sm plain-table">
        <thead>
          <tr>
            <th scope="col">Seen from outside</th>
            <th scope="col">Where</th>
            <th scope="col">Answered</th>
            <th scope="col">Should answer</th>
          </tr>
        </thead>
        <tbody>
          {[...wrong, ...data.rows.filter((r) => r.verdict === 'as-it-should')].map((r) => (
            <tr key={`${r.port} ${r.path}`} className={r.verdict === 'as-it-should' ? undefined : 'wrong'}>
              <td>
                <StageShape mark={r.verdict === 'as-it-should' ? (r.answers ? 'ok' : 'skipped') : 'fail'} /> {r.what}
              </td>
              <td className="mono">{r.path || `TCP ${r.port}`}</td>
              <td>{r.answers ? `yes (${r.found})` : `no (${r.found})`}</td>
              <td>{r.should ? 'yes' : 'no'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** A code that proves the way in by itself when it is opened on a telephone off the office's network. */
export function Telephone({ address }: { address: AddressSheet }) {
  const ask = useTelephone(address.id);
  const { data } = useQuery(telephoneQuery(address.id));
  const seen = data?.seen;
  return (
    <div className="telephone">
      <div>
        <p>
          Switch a telephone to its mobile connection and open this code with its camera, or send the link to somebody
          elsewhere: “open this, and tell me nothing”. What arrives here proves the whole way in and counts as the look
          from outside for a day; nothing has to be installed. A visitor who opens a share counts as well.
        </p>
        {seen && (
          <p className={seen.outside ? 'mark-ok' : 'hand'}>
            Seen <When at={seen.at} /> by {seen.protocol}, from <span className="mono">{seen.from}</span>.{' '}
            {seen.outside
              ? 'The way in works.'
              : 'That address is not a public one: the telephone was inside, or the request passed through a machine of yours.'}
          </p>
        )}
        <Button variant={ask.data ? 'plain' : 'primary'} disabled={ask.isPending} onClick={() => ask.mutate(undefined)}>
          {ask.data ? 'Another code' : 'Make a code'}
        </Button>
        {ask.data && (
          <div className="mt-3">
            <CopyLine value={ask.data.url} label="link of the proof" />
            <p className="small quiet">
              Counts once, until <When at={ask.data.endsAt} />.
            </p>
          </div>
        )}
        <h2 className="small-head mt-3">A vantage elsewhere</h2>
        <p className="mb-1">On any machine with Node.js, without installing anything else:</p>
        <CopyLine value={`node probe.mjs ${address.text}`} label="command of the probe" />
        <p className="small mt-1">
          <a href="/api/reach/probe.js" download>
            Download the probe
          </a>{' '}
          (one file); or <span className="mono">./quay probe</span> where this product is.
        </p>
      </div>
      {ask.data && <QrCode text={ask.data.url} label={`QR code of ${ask.data.url}`} />}
    </div>
  );
}

export function History({ address }: { address: AddressSheet }) {
  if (address.history.length === 0) return <p className="quiet">Nobody has looked yet.</p>;
  return (
    <table className="table table-sm plain-table">
      <thead>
        <tr>
          <th scope="col">When</th>
          <th scope="col">Found</th>
          <th scope="col">Why</th>
          <th scope="col">Took</th>
        </tr>
      </thead>
      <tbody>
        {address.history.map((h) => (
          <tr key={h.id}>
            <td>
              <When at={h.at} />
            </td>
            <td>
              <StageShape mark={LAMP[h.mark]} /> {MARK_SAYS[h.mark]}
            </td>
            <td>{WHY_WORDS[h.why]}</td>
            <td>{(h.tookMs / 1000).toFixed(1)} s</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A letter with the link as it reads now, in the reader's own mail program; the password stays out of it. */
function letterOf(l: AffectedLink): string {
  return `mailto:?subject=${encodeURIComponent(l.title)}&body=${encodeURIComponent(`The link has changed. From now on it is:\n\n${l.link}\n\nThe password, if there is one, is the same as before.\n`)}`;
}

/** Links that stand on an address, and the way to another. */
export function Links({ address, others }: { address: AddressSheet; others: AddressRow[] }) {
  const { data, error } = useQuery(linksQuery(address.id));
  const [to, setTo] = useState(others[0]?.id ?? '');
  const move = useMoveLinks(address.id);
  if (error) return <Failure error={error} />;
  if (!data) return <SkeletonRows count={3} />;
  if (data.length === 0) return <p className="quiet">No link that could still be opened is built on this address.</p>;
  return (
    <>
      <p>
        {countOf(address.shareCount, 'link')} that could still be opened. After a move they read differently: send those
        again that were handed over.
        {address.shareCount > data.length && ` The ${data.length} newest are listed; a move takes all.`}
      </p>
      {others.length > 0 && (
        <div className="d-flex gap-2 align-items-center mb-2">
          <Form.Select
            size="sm"
            className="w-auto"
            aria-label="Move the links to"
            value={to}
            onChange={(e) => setTo(e.target.value)}
          >
            {others.map((o) => (
              <option key={o.id} value={o.id}>
                {o.text}
              </option>
            ))}
          </Form.Select>
          <Button size="sm" variant="plain" disabled={move.isPending} onClick={() => move.mutate(to)}>
            Move them all
          </Button>
        </div>
      )}
      <table className="table table-sm plain-table">
        <tbody>
          {data.map((l) => (
            <tr key={l.shareId}>
              <td>{l.link === null ? l.title : <Link to={`/shares/${l.shareId}`}>{l.title}</Link>}</td>
              <td>
                {l.link === null ? (
                  <span className="quiet">Its owner sees the link</span>
                ) : (
                  <CopyLine value={l.link} label={`link of ${l.title}`} />
                )}
              </td>
              <td>{l.handedOver ? 'was opened' : 'not opened yet'}</td>
              <td>
                {l.link !== null && (
                  <a href={letterOf(l)}>
                    Send again<span className="visually-hidden"> the link of {l.title}</span>
                  </a>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
