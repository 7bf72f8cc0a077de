import type { MailItem, WorkItem, WorkList } from '@quay/contract';
import { countOf } from '@quay/core';
import { queryOptions, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import './index.scss';

const workQuery = queryOptions({
  queryKey: ['tasks', 'work'],
  queryFn: () => api<WorkList>('GET', '/api/work'),
  refetchInterval: 15_000,
});

/** What the server does by itself: what was given up, how mail ended, and what waits. */
export function Work() {
  const { data: work, error, refetch } = useQuery(workQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!work) return <SkeletonRows />;
  const unsent = work.mail.filter((m) => m.state === 'refused' || m.state === 'given-up');
  // Mail that was given up is shown where it says why.
  const givenUp = work.givenUp.filter((w) => w.kind !== 'mail' && w.kind !== 'text-message');
  return (
    <>
      <div className="title-line">
        <h1>
          {title(givenUp.length + unsent.length)}{' '}
          <span className="quiet">
            {work.moreWaiting && 'More than '}
            {countOf(work.waiting.length, 'thing waits', 'things wait')} for their time.
          </span>
        </h1>
      </div>
      {givenUp.length > 0 && (
        <Section title="Given up">
          {givenUp.map((w) => (
            <GivenUp key={w.id} item={w} />
          ))}
        </Section>
      )}
      <Section title="Mail and text messages">
        {work.mail.length === 0 ? (
          <Empty>What the server sends is listed here, with what the mail server or the gateway said.</Empty>
        ) : (
          work.mail.map((m) => <MailRow key={m.id} mail={m} />)
        )}
      </Section>
      <Section title="Waits for its time">
        {work.waiting.length === 0 ? (
          <Empty>Times at which shares open and close, and what is tried again, wait here.</Empty>
        ) : (
          work.waiting.map((w) => <Waiting key={w.id} item={w} />)
        )}
        {work.moreWaiting && <p className="quiet mt-2">These are the next. The others follow as their time comes.</p>}
      </Section>
    </>
  );
}

const title = (failed: number): string =>
  failed === 0 ? 'The server gets everything done.' : `${countOf(failed, 'thing needs', 'things need')} a hand.`;

function Section({ title: words, children }: { title: string; children: ReactNode }) {
  return (
    // What only tells can be reached by the keyboard too, so that the page scrolls to it.
    <section className="work-section" aria-label={words} tabIndex={0}>
      <h2 className="small-head">{words}</h2>
      {children}
    </section>
  );
}

function useAgain() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ kind, id }: { kind: string; id: string }) => api<WorkList>('POST', `/api/work/${kind}/${id}/again`),
    onSuccess: (work) => client.setQueryData(workQuery.queryKey, work),
    onError: tellFailure,
  });
}

function GivenUp({ item }: { item: WorkItem }) {
  const again = useAgain();
  return (
    <div className="work-row">
      <span>
        <strong>{item.words}</strong>
        <br />
        <span className="field-fault">
          {item.failure ?? 'It broke off.'} {countOf(item.tries + 1, 'try', 'tries')}
          {item.endedAt && (
            <>
              , the last <When at={item.endedAt} />
            </>
          )}
        </span>
      </span>
      <Button variant="plain" size="sm" disabled={again.isPending} onClick={() => again.mutate(item)}>
        Try again<span className="visually-hidden">: {item.words}</span>
      </Button>
    </div>
  );
}

const MAIL_WORDS: Record<MailItem['state'], string> = {
  waiting: 'is being sent',
  sent: 'took it',
  refused: 'refused it',
  'given-up': 'given up',
};

const TAKERS: Record<MailItem['by'], string> = { mail: 'the mail server', 'text-message': 'the gateway' };

function MailRow({ mail }: { mail: MailItem }) {
  const again = useAgain();
  const bad = mail.state === 'refused' || mail.state === 'given-up';
  return (
    <div className="work-row">
      <span>
        <strong>{mail.subject}</strong> <span className="quiet">to {mail.to}, </span>
        <span className="quiet">
          <When at={mail.createdAt} />
        </span>
        <br />
        <span className={bad ? 'field-fault' : 'quiet'}>
          {mail.state === 'sent' || mail.state === 'refused' ? `${TAKERS[mail.by]} ` : ''}
          {MAIL_WORDS[mail.state]}
          {mail.tries > 1 && ` after ${mail.tries} tries`}
          {mail.answer && mail.state !== 'sent' && `: ${mail.answer}`}
        </span>
      </span>
      {/* A code that did not come is asked for anew by whoever wants it. */}
      {bad && mail.by === 'mail' && (
        <Button
          variant="plain"
          size="sm"
          disabled={again.isPending}
          onClick={() => again.mutate({ kind: 'mail', id: mail.id })}
        >
          Try again<span className="visually-hidden">: {mail.subject}</span>
        </Button>
      )}
    </div>
  );
}

function Waiting({ item }: { item: WorkItem }) {
  return (
    <div className="work-row">
      <span>
        {item.words}
        {item.failure && (
          <>
            <br />
            <span className="quiet">
              {countOf(item.tries, 'try', 'tries')} so far: {item.failure}
            </span>
          </>
        )}
      </span>
      <span className="quiet text-nowrap">{item.state === 'running' ? 'now' : <When at={item.dueAt} />}</span>
    </div>
  );
}
