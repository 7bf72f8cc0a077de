import type { SessionRow } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { api } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import './sessions.scss';

const KEY = ['sessions'] as const;

/** Where one is signed in, and a way to end it. */
export function Sessions() {
  const client = useQueryClient();
  const { data, error, refetch } = useQuery({
    queryKey: KEY,
    queryFn: () => api<SessionRow[]>('GET', '/api/session/all'),
  });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={2} />;
  const end = (path: string, words: string) =>
    void api<SessionRow[]>('DELETE', `/api/session/${path}`).then((rows) => {
      client.setQueryData(KEY, rows);
      useNotices.getState().show(words);
    }, tellFailure);
  return (
    <section className="sessions">
      <h2 className="small-head mt-4">Where you are signed in</h2>
      <ul>
        {data.map((row) => (
          <li key={row.id}>
            <div>
              <div className="fw-semibold">
                {row.browser}
                {row.here && <span className="quiet"> (here)</span>}
              </div>
              <div className="quiet small">
                {row.from && `from ${row.from}, `}since <When at={row.since} />, last used <When at={row.lastSeen} />
              </div>
            </div>
            {!row.here && (
              <Button
                variant="plain"
                size="sm"
                aria-label={`Sign out ${row.browser}, ${row.from}`}
                onClick={() => end(`all/${row.id}`, `You are signed out there (${row.browser}).`)}
              >
                Sign out
              </Button>
            )}
          </li>
        ))}
      </ul>
      {data.length > 1 && (
        <Button variant="plain" size="sm" onClick={() => end('others', 'You are signed out everywhere else.')}>
          Sign out everywhere else
        </Button>
      )}
    </section>
  );
}
