import type { ShareRules } from '@quay/contract';
import { countOf, listedText } from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { ListField } from '../../ui/audience/audience-field';
import { useReadList } from '../../ui/audience/chosen';
import { useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { GuardrailsSettings } from './guardrails';
import { shareRulesQuery } from './queries';

/** What holds for all shares: guardrails, and who is never let in. */
export function ShareSettings() {
  return (
    <div className="d-grid gap-4">
      <GuardrailsSettings />
      <ShareRulesForm />
    </div>
  );
}

function ShareRulesForm() {
  const { data, error, refetch } = useQuery(shareRulesQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  return data ? <RulesForm key={data.blocked.join()} kept={data} /> : <SkeletonRows count={3} />;
}

function RulesForm({ kept }: { kept: ShareRules }) {
  const client = useQueryClient();
  const [text, setText] = useState(kept.blocked.join('\n'));
  const read = useReadList(text);
  const keep = useMutation({
    mutationFn: (blocked: string[]) => api<ShareRules>('PUT', '/api/settings/shares', { blocked }),
    onSuccess: (rules) => {
      client.setQueryData(shareRulesQuery.queryKey, rules);
      useNotices.getState().show('That holds from now on, for those who are inside too.');
    },
  });
  const faults = read?.faults.length ?? 0;
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (read && faults === 0) keep.mutate(read.listed.map(listedText));
      }}
    >
      <h2 className="small-head">Never let in</h2>
      <p className="mb-0">
        No share lets these in by a code, whatever its own list says: an address, a domain, or <code>*.domain</code> for
        all below it. Whoever holds the link of a share for anyone is not asked who they are.
      </p>
      <ListField
        label="Never let in, at any share"
        placeholder="Paste addresses, domains or *.domain"
        text={text}
        type={setText}
        read={read ?? undefined}
      />
      {keep.error && (
        <p className="field-fault mb-0" role="alert">
          {keep.error.message}
        </p>
      )}
      <div>
        <Button type="submit" disabled={!read || faults > 0 || keep.isPending}>
          {faults > 0 ? `${countOf(faults, 'entry is', 'entries are')} not understood` : 'Save'}
        </Button>
      </div>
    </Form>
  );
}
