import type { HandOvers } from '@quay/contract';
import {
  countOf,
  mailtoLink,
  MESSAGE_LENGTH,
  MESSAGE_PLACEHOLDER_WORDS,
  MESSAGE_PLACEHOLDERS,
  messageFault,
  messageSubject,
  messageText,
  type MessageTemplate,
  type MessageValues,
} from '@quay/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useRef, useState, type RefObject } from 'react';
import { Button, Form } from 'react-bootstrap';
import { v7 as uuidv7 } from 'uuid';
import { api, ApiProblem } from '../api';
import { useNotices } from '../notices';

interface MailFormProps {
  shareId: string;
  by: HandOvers;
  /** Whom it begins with. */
  to: string;
  done: () => void;
}

/** Addresses as they are pasted: one after the other, with names or without. */
export const addressesIn = (text: string): string[] =>
  text
    // A name in quotes may hold a comma (RFC 5322, 3.4).
    .replace(/"[^"]*"/g, '')
    .split(/[,;\n]+/)
    .map((part) => /<([^<>]+)>/.exec(part)?.[1] ?? part)
    .map((part) => part.trim())
    .filter(Boolean);

/** A message with the link of a share, to be sent by the office or by the own mail program. */
export function MailForm({ shareId, by, to, done }: MailFormProps) {
  const [typed, setTyped] = useState({ to, ...by.template });
  const [copyToMe, setCopyToMe] = useState(false);
  const text = useRef<HTMLTextAreaElement>(null);
  const recipients = addressesIn(typed.to);
  const fault = messageFault(typed);
  const send = useSend(shareId, done);
  const refused = (field: string) =>
    send.error instanceof ApiProblem
      ? send.error.body.errors?.find((e) => e.field.split('.')[0] === field)?.detail
      : undefined;
  const said = (field: 'subject' | 'text') => (fault?.field === field ? fault.words : refused(field));
  return (
    <Form
      noValidate
      className="d-grid gap-2 mt-2"
      aria-label="Send by mail"
      onSubmit={(e) => {
        e.preventDefault();
        if (!fault && recipients.length > 0)
          send.mutate({ to: recipients, subject: typed.subject, text: typed.text, copyToMe });
      }}
    >
      <To value={typed.to} set={(value) => setTyped({ ...typed, to: value })} fault={refused('to')} />
      <Form.Group controlId="mail-subject">
        <Form.Label className="small mb-0">Subject</Form.Label>
        <Form.Control
          value={typed.subject}
          maxLength={MESSAGE_LENGTH.subject}
          onChange={(e) => setTyped({ ...typed, subject: e.target.value })}
        />
        {said('subject') && <div className="field-fault">{said('subject')}</div>}
      </Form.Group>
      <Form.Group controlId="mail-text">
        <Form.Label className="small mb-0">Text</Form.Label>
        <Form.Control
          as="textarea"
          rows={8}
          ref={text}
          value={typed.text}
          maxLength={MESSAGE_LENGTH.text}
          onChange={(e) => setTyped({ ...typed, text: e.target.value })}
        />
        {said('text') && <div className="field-fault">{said('text')}</div>}
      </Form.Group>
      <Chips into={text} put={(value) => setTyped({ ...typed, text: value })} />
      <Preview typed={typed} values={by.values} />
      <Form.Check
        id="mail-copy"
        label="A copy to me"
        checked={copyToMe}
        onChange={(e) => setCopyToMe(e.target.checked)}
      />
      {send.error && !(send.error instanceof ApiProblem && send.error.body.errors) && (
        <p className="field-fault mb-0" role="alert">
          {send.error.message}
        </p>
      )}
      {!by.canMail && (
        <p className="field-advice mb-0">The office has no mail server yet: use your own mail program.</p>
      )}
      <div className="d-flex flex-wrap gap-2">
        {by.canMail && (
          <Button type="submit" size="sm" disabled={send.isPending || recipients.length === 0 || fault !== null}>
            {recipients.length > 1 ? `Send to ${countOf(recipients.length, 'recipient')}` : 'Send'}
          </Button>
        )}
        <a
          className="btn btn-plain btn-sm"
          href={mailtoLink(recipients, messageSubject(typed, by.values), messageText(typed, by.values))}
        >
          My own mail program
        </a>
        <Button size="sm" variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}

function To({ value, set, fault }: { value: string; set: (value: string) => void; fault: string | undefined }) {
  return (
    <Form.Group controlId="mail-to">
      <Form.Label className="small mb-0">To</Form.Label>
      <Form.Control
        as="textarea"
        rows={2}
        value={value}
        autoFocus
        placeholder="lena@mill.example, ash@quarry.example"
        isInvalid={fault !== undefined}
        onChange={(e) => set(e.target.value)}
      />
      {fault && <div className="field-fault">{fault}</div>}
    </Form.Group>
  );
}

function Preview({ typed, values }: { typed: MessageTemplate; values: MessageValues }) {
  return (
    <details>
      <summary className="small">As they get it</summary>
      <div className="message-preview" aria-label="The message as they get it">
        {messageSubject(typed, values)}
        {'\n\n'}
        {messageText(typed, values)}
      </div>
    </details>
  );
}

function useSend(shareId: string, done: () => void) {
  const client = useQueryClient();
  const { show } = useNotices();
  // The same press that arrives twice is one sending.
  const [sendingId] = useState(() => uuidv7());
  return useMutation({
    mutationFn: (asked: { to: string[]; subject: string; text: string; copyToMe: boolean }) =>
      api<HandOvers>('POST', `/api/shares/${shareId}/hand-overs/mail`, { sendingId, ...asked }),
    onSuccess: (found, { to }) => {
      client.setQueryData(['hand-overs', shareId], found);
      show(`The link is on its way to ${countOf(to.length, 'recipient')}.`);
      done();
    },
  });
}

/** What is filled in, put where the cursor is. */
function Chips({ into, put }: { into: RefObject<HTMLTextAreaElement | null>; put: (text: string) => void }) {
  const add = (name: string) => {
    const field = into.current;
    if (!field) return;
    const written = `{{${name}}}`;
    const { value, selectionStart, selectionEnd } = field;
    put(value.slice(0, selectionStart) + written + value.slice(selectionEnd));
    field.focus();
    // Once it is drawn.
    requestAnimationFrame(() =>
      field.setSelectionRange(selectionStart + written.length, selectionStart + written.length),
    );
  };
  return (
    <div className="chips" role="group" aria-label="Filled in for each">
      {MESSAGE_PLACEHOLDERS.map((name) => (
        <button
          key={name}
          type="button"
          className="btn btn-choice"
          title={MESSAGE_PLACEHOLDER_WORDS[name]}
          onClick={() => add(name)}
        >
          {name}
        </button>
      ))}
    </div>
  );
}
