import type { LeftToDo } from '@quay/contract';
import type { LeftKind } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';
import { useMe } from '../../ui/session';
import './left.scss';

const WORDS: Record<LeftKind, { words: string; to: string; verb: string }> = {
  files: { words: 'Get the first files in', to: '/stores', verb: 'Go to the stores' },
  share: { words: 'Publish the first share', to: '/stores', verb: 'Choose files' },
  reach: { words: 'Let outsiders in, and prove that it works', to: '/reach', verb: 'Add an address' },
  backup: {
    words: 'Have backups made, so that no mishap and no broken disk loses anything',
    to: '/settings/backups',
    verb: 'Choose where to',
  },
  factor: {
    words: 'Set up a second factor, so that your password alone opens nothing',
    to: '/account',
    verb: 'Set it up',
  },
  mail: {
    words: 'Name a mail server, so that links, codes and notices can be sent',
    to: '/settings/mail',
    verb: 'Name it',
  },
};

/** What is left to do after the first start; empty, and not there, once it is done. */
export function LeftList() {
  const me = useMe();
  const client = useQueryClient();
  const { data } = useQuery({
    queryKey: ['left'],
    queryFn: () => api<LeftToDo>('GET', '/api/office/left'),
    enabled: me.duties.includes('run-server'),
  });
  const decline = async () => {
    await api('POST', '/api/session/factor/decline');
    await client.invalidateQueries({ queryKey: ['left'] });
  };
  if (!data || data.left.length === 0) return null;
  return (
    <>
      <h2 className="small-head">What is left to do</h2>
      <ul className="left-list">
        {data.left.map((kind) => (
          <li key={kind} className="finding">
            <span className="flag" />
            <div className="fw-semibold">{WORDS[kind].words}</div>
            <Link className="btn btn-plain btn-sm" to={WORDS[kind].to}>
              {WORDS[kind].verb}
            </Link>
            {kind === 'factor' && (
              <Button variant="plain" size="sm" onClick={() => void decline().catch(tellFailure)}>
                Not for me
              </Button>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}
