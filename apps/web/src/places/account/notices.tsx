import type { OwnNotices } from '@quay/contract';
import { canWait, NOTICE_WORDS, noticesFor, type NoticeKind } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';
import { useMe } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';

const KEY = ['notices'] as const;

/** What one is told of by mail. */
export function OwnNoticeChoices() {
  const me = useMe();
  const client = useQueryClient();
  const offered = noticesFor(me.duties);
  const { data, error, refetch } = useQuery({
    queryKey: KEY,
    queryFn: () => api<OwnNotices>('GET', '/api/session/notices'),
    enabled: offered.length > 0,
  });
  if (offered.length === 0) return null;
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={2} />;
  const keep = async (asked: OwnNotices, words: string) => {
    try {
      client.setQueryData(KEY, await api<OwnNotices>('PUT', '/api/session/notices', asked));
      useNotices.getState().show(words);
    } catch (failure) {
      tellFailure(failure);
    }
  };
  const choose = (kind: NoticeKind, wanted: boolean) => {
    const notices = wanted ? [...data.notices, kind] : data.notices.filter((other) => other !== kind);
    void keep({ notices }, wanted ? 'You are told of that by mail.' : 'You are not told of that by mail any more.');
  };
  const chooseDaily = (daily: boolean) =>
    void keep(
      { notices: data.notices, daily },
      daily ? 'What comes of shares is told in one mail a day.' : 'What comes of shares is told at once.',
    );
  return (
    <section>
      <h2 className="small-head mt-4">Notices</h2>
      <p className="mb-1">You are told by mail, at {me.email}:</p>
      {offered.map((kind) => (
        <Form.Check
          key={kind}
          id={`notice-${kind}`}
          label={NOTICE_WORDS[kind]}
          checked={data.notices.includes(kind)}
          onChange={(e) => choose(kind, e.target.checked)}
        />
      ))}
      {offered.some(canWait) && (
        <Form.Check
          type="switch"
          className="mt-2"
          id="notices-daily"
          label="What comes of shares in one mail a day, in the morning; only that one closes is told at once"
          checked={data.daily ?? false}
          onChange={(e) => chooseDaily(e.target.checked)}
        />
      )}
      <p className="quiet mt-1">What concerns your sign-in you are always told.</p>
    </section>
  );
}
