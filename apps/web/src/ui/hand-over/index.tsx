import type { HandOverRow, HandOvers as Found } from '@quay/contract';
import { HAND_OVER_CHANNEL_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../api';
import { Failure } from '../states';
import { When } from '../words';
import { MailForm } from './mail-form';
import './index.scss';

const MOST_LISTED = 8;

export const handOversQuery = (shareId: string) => ({
  queryKey: ['hand-overs', shareId] as const,
  queryFn: () => api<Found>('GET', `/api/shares/${shareId}/hand-overs`),
});

/** To whom a share was handed over, what became of that, and handing it over by mail. */
export function HandOvers({ shareId }: { shareId: string }) {
  const { data, error, refetch } = useQuery(handOversQuery(shareId));
  const [to, setTo] = useState<string | null>(null);
  const [all, setAll] = useState(false);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return null;
  const shown = data.rows.slice(0, all ? undefined : MOST_LISTED);
  return (
    <section className="hand-overs">
      <h3>Handed over</h3>
      {data.rows.length === 0 && <p className="quiet small mb-1">To nobody yet, as far as is written down here.</p>}
      <ul>
        {shown.map((row) => (
          <Row key={row.id} row={row} again={data.canMail && row.what === 'link' ? () => setTo(row.recipient) : null} />
        ))}
      </ul>
      {data.rows.length > shown.length && (
        <Button variant="link" size="sm" className="p-0" onClick={() => setAll(true)}>
          All {data.rows.length}
        </Button>
      )}
      {to === null ? (
        <Button variant="plain" size="sm" className="mt-1" onClick={() => setTo('')}>
          Send by mail
        </Button>
      ) : (
        <MailForm key={to} shareId={shareId} by={data} to={to} done={() => setTo(null)} />
      )}
    </section>
  );
}

const STATE: Record<HandOverRow['state'], string> = {
  waiting: 'on its way',
  sent: 'taken by the mail server',
  refused: 'refused',
  'given-up': 'given up',
  done: '',
};

function Row({ row, again }: { row: HandOverRow; again: (() => void) | null }) {
  const failed = row.state === 'refused' || row.state === 'given-up';
  const isOver = row.outdated.length > 0;
  return (
    <li className="small py-1">
      <strong>{row.recipient || 'Somebody'}</strong>, the {row.what} {HAND_OVER_CHANNEL_WORDS[row.channel]}{' '}
      <span className="quiet">
        <When at={row.at} brief />
        {STATE[row.state] && `, ${STATE[row.state]}`}
      </span>
      {failed && <div className="field-fault">{row.answer}</div>}
      {isOver && <div className="field-advice">Not true any more: {row.outdated.join(', ')}.</div>}
      {(failed || isOver) && again && (
        <Button variant="plain" size="sm" onClick={again}>
          Send again<span className="visually-hidden"> to {row.recipient}</span>
        </Button>
      )}
    </li>
  );
}
