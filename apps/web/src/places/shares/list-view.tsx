import type { ShareListView } from '@quay/contract';
import { COLUMN_WORDS, SHARE_COLUMNS } from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';
import { shareListViewQuery } from '../../ui/queries';
import './list-view.scss';

/** How whoever looks likes the list, and a way to have it otherwise; what is chosen shows before it is kept. */
export function useListView(): { view: ShareListView; keep: (view: ShareListView) => void } {
  const client = useQueryClient();
  const { data } = useQuery(shareListViewQuery);
  const { mutate } = useMutation({
    mutationFn: (view: ShareListView) => api<ShareListView>('PUT', '/api/shares/view', view),
    onError: (error) => {
      tellFailure(error);
      void client.invalidateQueries({ queryKey: shareListViewQuery.queryKey });
    },
  });
  return {
    view: data ?? { columns: [...SHARE_COLUMNS], filters: [] },
    keep: (view) => {
      client.setQueryData(shareListViewQuery.queryKey, view);
      mutate(view);
    },
  };
}

interface ListViewProps {
  view: ShareListView;
  keep: (view: ShareListView) => void;
}

/** Which columns there are, as a row that is opened by its button. */
export function Columns({ view, keep }: ListViewProps) {
  const [isOpen, setIsOpen] = useState(false);
  return (
    <>
      <Button variant="plain" aria-expanded={isOpen} onClick={() => setIsOpen(!isOpen)}>
        Columns
      </Button>
      {isOpen && (
        <div className="filters column-row" role="group" aria-label="Columns that are shown">
          {SHARE_COLUMNS.map((column) => {
            const isShown = view.columns.includes(column);
            const others = (c: (typeof SHARE_COLUMNS)[number]) => (c === column ? !isShown : view.columns.includes(c));
            return (
              <button
                key={column}
                type="button"
                className="btn btn-choice btn-sm"
                aria-pressed={isShown}
                onClick={() => keep({ ...view, columns: SHARE_COLUMNS.filter(others) })}
              >
                {COLUMN_WORDS[column]}
              </button>
            );
          })}
        </div>
      )}
    </>
  );
}

/** What is asked for often, by name; and a way to keep what is asked for now. */
export function KeptFilters({ view, keep, query }: ListViewProps & { query: string }) {
  const [name, setName] = useState<string | null>(null);
  const asked = query.replace(/^\?/, '');
  const isKept = view.filters.some((f) => f.query === asked);
  const typed = name?.trim() ?? '';
  const add = () => {
    if (typed === '') return;
    keep({ ...view, filters: [...view.filters.filter((f) => f.name !== typed), { name: typed, query: asked }] });
    setName(null);
  };
  if (view.filters.length === 0 && asked === '') return null;
  return (
    <div className="filters kept-filters" role="group" aria-label="Filters that are kept">
      {view.filters.map((filter) => (
        <span key={filter.name} className="kept-filter">
          <Link to={`/shares?${filter.query}`} aria-current={filter.query === asked ? 'true' : undefined}>
            {filter.name}
          </Link>
          <button
            type="button"
            aria-label={`Forget the filter ${filter.name}`}
            onClick={() => keep({ ...view, filters: view.filters.filter((f) => f !== filter) })}
          >
            <i className="bi bi-x-lg" aria-hidden />
          </button>
        </span>
      ))}
      {asked !== '' && !isKept && name === null && (
        <button type="button" className="link" onClick={() => setName('')}>
          Keep this filter
        </button>
      )}
      {name !== null && (
        <Form
          className="d-flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            add();
          }}
        >
          <Form.Control
            size="sm"
            autoFocus
            aria-label="Name of the filter"
            maxLength={60}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button type="submit" size="sm" variant="plain" disabled={typed === ''}>
            Keep
          </Button>
        </Form>
      )}
    </div>
  );
}
