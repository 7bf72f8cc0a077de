import type { ChainAnswer, LedgerPage } from '@quay/contract';
import { infiniteQueryOptions, useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { useKeys } from '../../ui/keys';
import { useMe } from '../../ui/session';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { useTyped } from '../../ui/typed';
import { When } from '../../ui/words';

const KINDS: [string, string][] = [
  ['', 'Everything'],
  ['share', 'Shares'],
  ['file', 'Files'],
  ['node', 'Moves and trash'],
  ['folder', 'Folders'],
  ['person', 'People'],
];

const ledgerPages = (kind: string, find: string) =>
  infiniteQueryOptions({
    queryKey: ['ledger', 'pages', kind, find],
    queryFn: ({ pageParam }) => {
      const asked = new URLSearchParams({ limit: '100', ...(kind && { kind }), ...(find && { find }) });
      if (pageParam) asked.set('before', String(pageParam));
      return api<LedgerPage>('GET', `/api/ledger?${asked.toString()}`);
    },
    initialPageParam: 0,
    getNextPageParam: (page) => page.next ?? undefined,
  });

/** The tamper-evident record of everything that happened. */
export function Ledger() {
  const me = useMe();
  const [kind, setKind] = useState('');
  const [find, setFind] = useState('');
  const pages = useInfiniteQuery(ledgerPages(kind, find));
  const chain = useMutation({ mutationFn: () => api<ChainAnswer>('GET', '/api/ledger/chain') });
  const total = pages.data?.pages[0]?.total;
  const entries = pages.data?.pages.flatMap((p) => p.entries) ?? [];
  return (
    <>
      <div className="title-line">
        <h1>
          {total === undefined ? 'Ledger' : `${total.toLocaleString('en-GB')} entries.`}{' '}
          <ChainWords answer={chain.data} />
        </h1>
        {me.duties.includes('see-ledger') && (
          <div className="tools">
            <Button variant="plain" onClick={() => chain.mutate()} disabled={chain.isPending}>
              {chain.isPending ? 'Verifying' : 'Verify the chain'}
            </Button>
            <a className="btn btn-plain" href="/api/ledger/export" download>
              Export
            </a>
          </div>
        )}
      </div>
      <Filters kind={kind} setKind={setKind} find={find} setFind={setFind} />
      {pages.error ? (
        <Failure error={pages.error} again={() => void pages.refetch()} />
      ) : pages.isPending ? (
        <SkeletonRows />
      ) : entries.length === 0 ? (
        <Empty>Nothing in the ledger matches that.</Empty>
      ) : (
        <Entries entries={entries} />
      )}
      {pages.hasNextPage && (
        <Button
          variant="plain"
          className="mt-3"
          disabled={pages.isFetchingNextPage}
          onClick={() => void pages.fetchNextPage()}
        >
          Show earlier entries
        </Button>
      )}
    </>
  );
}

interface FiltersProps {
  kind: string;
  setKind: (kind: string) => void;
  find: string;
  setFind: (find: string) => void;
}

function Filters({ kind, setKind, find, setFind }: FiltersProps) {
  const [typed, setTyped] = useTyped(find, setFind);
  const field = useRef<HTMLInputElement>(null);
  useKeys({ '/': () => field.current?.focus() });
  return (
    <div className="filters">
      <div className="d-flex gap-1" role="group" aria-label="Kind">
        {KINDS.map(([value, words]) => (
          <button
            key={value}
            type="button"
            className="btn btn-choice"
            aria-pressed={kind === value}
            onClick={() => setKind(value)}
          >
            {words}
          </button>
        ))}
      </div>
      <Form.Control
        ref={field}
        type="search"
        aria-label="Find in the ledger"
        placeholder="Person, share or file"
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
      />
    </div>
  );
}

function Entries({ entries }: { entries: LedgerPage['entries'] }) {
  return (
    <table className="rows">
      <thead>
        <tr>
          <th className="number">No.</th>
          <th>When</th>
          <th>Who</th>
          <th>What</th>
          <th>Hash</th>
        </tr>
      </thead>
      <tbody>
        {entries.map((e) => (
          <tr key={e.seq}>
            <td className="number quiet">{e.seq}</td>
            <td>
              <When at={e.at} />
            </td>
            <td>{e.who}</td>
            <td>
              {e.shareId ? (
                <Link to={`/shares/${e.shareId}`} className="link-body-emphasis">
                  {e.words}
                </Link>
              ) : (
                e.words
              )}
            </td>
            <td className="mono quiet" title={e.hash}>
              {e.hash.slice(0, 10)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function ChainWords({ answer }: { answer: ChainAnswer | undefined }) {
  if (!answer) return <span className="quiet">Each carries the hash of the one before it.</span>;
  if (answer.fault) return <span className="hand">The chain is broken at entry {answer.fault.seq}.</span>;
  return (
    <span className="state-open">
      The chain holds, from the first to number {answer.entries.toLocaleString('en-GB')}.
    </span>
  );
}
