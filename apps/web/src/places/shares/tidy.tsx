import type { Tidied, TidyPreview } from '@quay/contract';
import { countOf, TIDY_WORDS, type TidyKind } from '@quay/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { useNotices } from '../../ui/notices';
import { tidyQuery } from '../../ui/queries';
import { Failure, SkeletonRows } from '../../ui/states';

/** Takes shares that are over off the list for good, after it was said which. */
export function TidyDialog({ close }: { close: () => void }) {
  const { data, error, refetch } = useQuery({ ...tidyQuery, refetchOnMount: 'always' });
  return (
    <Modal show onHide={close} aria-labelledby="tidy-title">
      <Modal.Header closeButton>
        <Modal.Title id="tidy-title">Tidy the list</Modal.Title>
      </Modal.Header>
      {error ? (
        <Modal.Body>
          <Failure error={error} again={() => void refetch()} />
        </Modal.Body>
      ) : data ? (
        <Kinds kinds={data.kinds} close={close} />
      ) : (
        <Modal.Body>
          <SkeletonRows count={3} />
        </Modal.Body>
      )}
    </Modal>
  );
}

function Kinds({ kinds, close }: { kinds: TidyPreview['kinds']; close: () => void }) {
  const changed = useChanged();
  // What has been over for long is meant; the rest might still be wanted.
  const [chosen, setChosen] = useState<TidyKind[]>(() => kinds.filter((k) => k.isOverForLong).map((k) => k.kind));
  const [removed, setRemoved] = useState(0);
  const count = kinds.filter((k) => chosen.includes(k.kind)).reduce((sum, k) => sum + k.count, 0);
  const tidy = useMutation({
    mutationFn: async () => {
      let sum = 0;
      for (;;) {
        const answer = await api<Tidied>('POST', '/api/shares/tidy', { kinds: chosen });
        sum += answer.removed;
        setRemoved(sum);
        if (answer.left === 0 || answer.removed === 0) return sum;
      }
    },
    onSuccess: (sum) => {
      useNotices.getState().show(`${countOf(sum, 'share')} taken off the list.`);
      close();
    },
    onSettled: () => changed('shares'),
  });
  if (kinds.length === 0)
    return (
      <Modal.Body>
        <p className="mb-0">There is nothing to tidy: no share has been over for long, is used up or broken.</p>
      </Modal.Body>
    );
  const toggle = (kind: TidyKind, on: boolean) =>
    setChosen(on ? [...chosen, kind] : chosen.filter((each) => each !== kind));
  return (
    <>
      <Modal.Body>
        {kinds.map(({ kind, count: many, titles }) => (
          <Form.Check
            key={kind}
            id={`tidy-${kind}`}
            className="mb-2"
            checked={chosen.includes(kind)}
            onChange={(e) => toggle(kind, e.target.checked)}
            label={
              <>
                {many} {TIDY_WORDS[kind]}
                <span className="quiet small d-block">
                  {titles.join(', ')}
                  {many > titles.length && ` and ${many - titles.length} more`}
                </span>
              </>
            }
          />
        ))}
        <p className="quiet small mb-0">
          They go for good, with the list of their visits; their links then lead to nothing. Files stay where they are,
          and the ledger keeps what happened.
        </p>
        {tidy.error && (
          <p className="field-fault mb-0 mt-2" role="alert">
            {tidy.error.message}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Keep them
        </Button>
        <Button variant="danger" disabled={count === 0 || tidy.isPending} onClick={() => tidy.mutate()}>
          {tidy.isPending
            ? `${removed} of ${count}`
            : count === 0
              ? 'Choose which'
              : `Take ${countOf(count, 'share')} off`}
        </Button>
      </Modal.Footer>
    </>
  );
}
