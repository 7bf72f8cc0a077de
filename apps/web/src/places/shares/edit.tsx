import type { ChangeShare, ShareSheet } from '@quay/contract';
import { fromLocalField, toLocalField, typedNumber, VISIT_LIMIT_RANGE } from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { ApiProblem } from '../../ui/api';
import { useNotices } from '../../ui/notices';
import { useChangeShare } from '../../ui/queries';
import { useZone } from '../../ui/session';

/** Title, message, window and visit limit of a share that is out. Takes effect at once. */
export function EditShare({ share, done }: { share: ShareSheet; done: () => void }) {
  const zone = useZone();
  const field = (at: string | null) => (at ? toLocalField(Date.parse(at), zone) : '');
  const [form, setForm] = useState({
    title: share.title,
    message: share.message,
    opens: field(share.opensAt),
    closes: field(share.closesAt),
    limit: share.visitLimit === null ? '' : String(share.visitLimit),
  });
  const change = useChangeShare();
  const { show } = useNotices();
  const problem = change.error instanceof ApiProblem ? change.error : null;
  const limit = typedNumber(form.limit, VISIT_LIMIT_RANGE);
  const set = (part: Partial<typeof form>) => setForm({ ...form, ...part });
  const submit = () => {
    const moment = (text: string) => {
      const at = text === '' ? null : fromLocalField(text, zone);
      return at === null ? null : new Date(at).toISOString();
    };
    const asked: ChangeShare = {
      ...(form.title !== share.title && { title: form.title }),
      ...(form.message !== share.message && { message: form.message }),
      ...((form.opens !== field(share.opensAt) || form.closes !== field(share.closesAt)) && {
        window: { opensAt: moment(form.opens), closesAt: moment(form.closes) },
      }),
      ...(form.limit !== (share.visitLimit === null ? '' : String(share.visitLimit)) && {
        visitLimit: limit.value,
      }),
    };
    if (limit.fault) return;
    if (Object.keys(asked).length === 0) done();
    else
      change.mutate(
        { id: share.id, change: asked },
        {
          onSuccess: () => {
            show('Changed. Pages that are open show it already.');
            done();
          },
        },
      );
  };
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      <Form.Control
        aria-label="Title"
        maxLength={120}
        value={form.title}
        isInvalid={Boolean(problem?.field('title'))}
        onChange={(e) => set({ title: e.target.value })}
      />
      <Form.Control
        aria-label="Message"
        as="textarea"
        rows={2}
        placeholder="Message"
        maxLength={2000}
        value={form.message}
        onChange={(e) => set({ message: e.target.value })}
      />
      <Form.Group controlId="edit-opens">
        <Form.Label className="small mb-0">Opens (empty: at once)</Form.Label>
        <Form.Control type="datetime-local" value={form.opens} onChange={(e) => set({ opens: e.target.value })} />
      </Form.Group>
      <Form.Group controlId="edit-closes">
        <Form.Label className="small mb-0">Closes (empty: open without end)</Form.Label>
        <Form.Control
          type="datetime-local"
          value={form.closes}
          isInvalid={Boolean(problem?.field('window'))}
          onChange={(e) => set({ closes: e.target.value })}
        />
      </Form.Group>
      <Form.Group controlId="edit-limit">
        <Form.Label className="small mb-0">Visits at most (empty: no limit)</Form.Label>
        <Form.Control
          inputMode="numeric"
          value={form.limit}
          isInvalid={limit.fault !== null || Boolean(problem?.field('visitLimit'))}
          aria-describedby={limit.fault ? 'edit-limit-fault' : undefined}
          onChange={(e) => set({ limit: e.target.value })}
        />
        {limit.fault && (
          <div className="field-fault" id="edit-limit-fault" role="alert">
            {limit.fault}
          </div>
        )}
      </Form.Group>
      {problem && (
        <div className="field-fault" role="alert">
          {problem.message}
        </div>
      )}
      <div className="d-flex gap-2">
        <Button type="submit" size="sm" disabled={change.isPending || limit.fault !== null}>
          Save
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Cancel
        </Button>
      </div>
    </Form>
  );
}
