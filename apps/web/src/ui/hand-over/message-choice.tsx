import type { KeepMessageTemplate, MessageTemplateRow } from '@quay/contract';
import type { MessageTemplate } from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../api';
import { tellFailure, useNotices } from '../notices';
import { useMe } from '../session';
import { messageTemplatesQuery } from './queries';

interface MessageChoiceProps {
  typed: MessageTemplate;
  use: (template: MessageTemplate) => void;
  /** Something is wrong with what is written. */
  isFaulty: boolean;
}

type Change = { method: 'POST' | 'PUT' | 'DELETE'; id?: string; body?: KeepMessageTemplate };

/** Keeps, changes and removes messages; what comes back is how they stand then. */
function useChangeMessages() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ method, id, body }: Change) =>
      api<MessageTemplateRow[]>(method, `/api/message-templates${id ? `/${id}` : ''}`, body),
    onSuccess: (kept) => client.setQueryData(messageTemplatesQuery.queryKey, kept),
    onError: tellFailure,
  });
}

/** Messages that are kept: to begin with one, to keep what is written, to change and remove what is kept. */
export function MessageChoice({ typed, use, isFaulty }: MessageChoiceProps) {
  const me = useMe();
  const { data: templates = [] } = useQuery(messageTemplatesQuery);
  const [chosenId, setChosenId] = useState('');
  const chosen = templates.find((t) => t.id === chosenId);
  return (
    <details>
      <summary className="small">Messages that are kept ({templates.length})</summary>
      <div className="d-grid gap-2 mt-1">
        {templates.length > 0 && (
          <Form.Select
            size="sm"
            aria-label="Begin with a message"
            value={chosenId}
            onChange={(e) => {
              setChosenId(e.target.value);
              const taken = templates.find((t) => t.id === e.target.value);
              if (taken) use({ subject: taken.subject, text: taken.text });
            }}
          >
            <option value="">Begin with one of them</option>
            {templates.map((t) => (
              <option key={t.id} value={t.id}>
                {t.name}
                {t.office ? ', of the office' : ''}
                {t.begins ? ' (messages begin with it)' : ''}
              </option>
            ))}
          </Form.Select>
        )}
        {chosen && (!chosen.office || me.duties.includes('run-server')) && (
          <ChangeMessage {...{ chosen, typed, isFaulty }} />
        )}
        <KeepMessage {...{ typed, isFaulty }} runs={me.duties.includes('run-server')} />
      </div>
    </details>
  );
}

interface ChangeMessageProps {
  chosen: MessageTemplateRow;
  typed: MessageTemplate;
  isFaulty: boolean;
}

function ChangeMessage({ chosen, typed: { subject, text }, isFaulty }: ChangeMessageProps) {
  const change = useChangeMessages();
  const { id, name, office, begins } = chosen;
  const asBefore = { name, office, begins, subject: chosen.subject, text: chosen.text };
  const replace = () =>
    change.mutate(
      { method: 'PUT', id, body: { name, office, begins, subject, text } },
      { onSuccess: () => useNotices.getState().show(`${name} is changed.`) },
    );
  const remove = () =>
    change.mutate(
      { method: 'DELETE', id },
      {
        onSuccess: () =>
          useNotices
            .getState()
            .show(`${name} is removed.`, { undo: () => change.mutate({ method: 'POST', body: asBefore }) }),
      },
    );
  return (
    <div className="d-flex flex-wrap gap-2">
      <Button size="sm" variant="plain" disabled={isFaulty || change.isPending} onClick={replace}>
        Keep it as it is now
      </Button>
      <Button size="sm" variant="plain" disabled={change.isPending} onClick={remove}>
        Remove {name}
      </Button>
    </div>
  );
}

interface KeepMessageProps {
  typed: MessageTemplate;
  isFaulty: boolean;
  runs: boolean;
}

function KeepMessage({ typed: { subject, text }, isFaulty, runs }: KeepMessageProps) {
  const change = useChangeMessages();
  const [asked, setAsked] = useState(NEW);
  const name = asked.name.trim();
  const keep = () =>
    change.mutate(
      { method: 'POST', body: { ...asked, name, subject, text } },
      {
        onSuccess: () => {
          useNotices.getState().show(`${name} is kept.`);
          setAsked(NEW);
        },
      },
    );
  return (
    <>
      <Form.Control
        size="sm"
        aria-label="Keep what is written, as"
        placeholder="Keep what is written, as"
        maxLength={60}
        value={asked.name}
        onChange={(e) => setAsked({ ...asked, name: e.target.value })}
      />
      {name !== '' && (
        <>
          <Form.Check
            id="message-begins"
            label="Messages begin with it"
            checked={asked.begins}
            onChange={(e) => setAsked({ ...asked, begins: e.target.checked })}
          />
          {runs && (
            <Form.Check
              id="message-office"
              label="For all of the office"
              checked={asked.office}
              onChange={(e) => setAsked({ ...asked, office: e.target.checked })}
            />
          )}
          <div>
            <Button size="sm" variant="plain" disabled={isFaulty || change.isPending} onClick={keep}>
              Keep it
            </Button>
          </div>
        </>
      )}
    </>
  );
}

const NEW = { name: '', office: false, begins: false };
