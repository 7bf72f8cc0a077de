import type { HandOverByMail, HandOvers } from '@quay/contract';
import {
  countOf,
  DEFAULT_ATTACHED_MESSAGE,
  DEFAULT_WITHDRAWAL_MESSAGE,
  mailtoLink,
  MESSAGE_LENGTH,
  MESSAGE_PLACEHOLDER_WORDS,
  MESSAGE_PLACEHOLDERS,
  messageFault,
  messageSubject,
  messageText,
  type MailAbout,
  type MessageTemplate,
} from '@quay/core';
import type { Addressee } from '@quay/core/recipients';
import { useRef, useState, type RefObject } from 'react';
import { Button, Form } from 'react-bootstrap';
import { v7 as uuidv7 } from 'uuid';
import { ApiProblem } from '../api';
import { useNotices } from '../notices';
import { Attach } from './attach';
import { MessageChoice } from './message-choice';
import { NoteIt } from './note-form';
import { MessagePreview } from './preview';
import { addresseeText, useAddressees, useHandOver } from './queries';
import { SameWay } from './same-way';
import { ToField } from './to-field';

interface MailFormProps {
  shareId: string;
  by: HandOvers;
  /** Whom it begins with. */
  to: string;
  about: 'link' | 'withdrawal';
  done: () => void;
}

const WORDS: Record<MailAbout, string> = {
  link: 'The link is on its way to',
  files: 'The files are on their way to',
  withdrawal: 'That it is withdrawn is on its way to',
};

/** A message about a share, to be sent by the office or by the own mail program. */
export function MailForm({ shareId, by, to, about: first, done }: MailFormProps) {
  const [about, setAbout] = useState<MailAbout>(first);
  const [typed, setTyped] = useState({ to, ...templateOf(first, by) });
  const [copyToMe, setCopyToMe] = useState(false);
  const [sameWayMeant, setSameWayMeant] = useState(false);
  // The same press that arrives twice is one sending.
  const [sendingId] = useState(() => uuidv7());
  const text = useRef<HTMLTextAreaElement>(null);
  const read = useAddressees(typed.to, 'address');
  const recipients = read?.to ?? [];
  const fault = messageFault(typed, { about });
  const send = useHandOver<HandOverByMail>(shareId, 'POST', () => '/mail');
  const refused = (field: string) => refusedAt(send.error, field);
  const isReady = by.canMail && recipients.length > 0 && read?.faults.length === 0 && fault === null;
  const post = () =>
    send.mutate(
      { sendingId, to: recipients.map(addresseeText), ...textsOf(typed), copyToMe, about, sameWayMeant },
      {
        onSuccess: () => {
          useNotices.getState().show(`${WORDS[about]} ${countOf(recipients.length, 'recipient')}.`);
          done();
        },
      },
    );
  return (
    <Form
      noValidate
      className="d-grid gap-2 mt-2"
      aria-label={first === 'withdrawal' ? 'Tell that it is withdrawn' : 'Send by mail'}
      onSubmit={(e) => {
        e.preventDefault();
        if (isReady && !send.isPending) post();
      }}
    >
      <ToField
        {...{ id: 'mail-to', kind: 'address', value: typed.to, fault: refused('to') }}
        set={(value) => setTyped({ ...typed, to: value })}
      />
      {first === 'link' && (
        <Attach
          {...{ by, about, recipients: recipients.length }}
          set={(next) => {
            const untouched = messageIs(typed, templateOf(about, by));
            setAbout(next);
            if (untouched) setTyped({ ...typed, ...templateOf(next, by) });
          }}
        />
      )}
      <Texts {...{ typed, fault, refused, field: text }} set={(part) => setTyped({ ...typed, ...part })} />
      <Chips into={text} put={(value) => setTyped({ ...typed, text: value })} />
      <MessagePreview typed={typed} values={by.values} office={by.office} />
      {about === 'link' && (
        <MessageChoice typed={typed} use={(t) => setTyped({ ...typed, ...t })} isFaulty={fault !== null} />
      )}
      <Form.Check
        id="mail-copy"
        label="A copy to me"
        checked={copyToMe}
        onChange={(e) => setCopyToMe(e.target.checked)}
      />
      <SameWay error={send.error} meant={sameWayMeant} set={setSameWayMeant} />
      {!by.canMail && (
        <p className="field-advice mb-0">The office has no mail server yet: use your own mail program.</p>
      )}
      <div className="d-flex flex-wrap gap-2">
        {by.canMail && (
          <Button type="submit" size="sm" disabled={send.isPending || !isReady}>
            {recipients.length > 1 ? `Send to ${countOf(recipients.length, 'recipient')}` : 'Send'}
          </Button>
        )}
        {about !== 'files' && <OwnProgram {...{ shareId, by, typed, recipients, about }} />}
        <Button size="sm" variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}

const templateOf = (about: MailAbout, by: HandOvers): MessageTemplate =>
  ({ link: by.template, files: DEFAULT_ATTACHED_MESSAGE, withdrawal: DEFAULT_WITHDRAWAL_MESSAGE })[about];
const textsOf = ({ subject, text }: MessageTemplate): MessageTemplate => ({ subject, text });
const messageIs = (one: MessageTemplate, other: MessageTemplate): boolean =>
  one.subject === other.subject && one.text === other.text;

/** What the server said of a field; of one of several in it, too. */
const refusedAt = (error: unknown, field: string): string | undefined =>
  error instanceof ApiProblem ? error.body.errors?.find((e) => e.field.split('.')[0] === field)?.detail : undefined;

/** The message in the own mail program; whether it went out from there nobody but its owner knows. */
function OwnProgram({
  shareId,
  by,
  typed,
  recipients,
  about,
}: {
  shareId: string;
  by: HandOvers;
  typed: MessageTemplate;
  recipients: readonly Addressee[];
  about: MailAbout;
}) {
  const [isOpened, setIsOpened] = useState(false);
  const to = recipients.map((r) => r.value);
  const link = mailtoLink(to, messageSubject(typed, by.values), messageText(typed, by.values));
  return (
    <>
      <a className="btn btn-plain btn-sm" href={link} onClick={() => setIsOpened(true)}>
        My own mail program
      </a>
      {isOpened && about === 'link' && to.length > 0 && (
        <NoteIt shareId={shareId} asked={{ what: 'link', channel: 'own-mail', to }}>
          I have sent it
        </NoteIt>
      )}
    </>
  );
}

interface TextsProps {
  typed: MessageTemplate;
  fault: ReturnType<typeof messageFault>;
  refused: (field: string) => string | undefined;
  field: RefObject<HTMLTextAreaElement | null>;
  set: (part: Partial<MessageTemplate>) => void;
}

function Texts({ typed, fault, refused, field, set }: TextsProps) {
  const said = (of: 'subject' | 'text') => (fault?.field === of ? fault.words : refused(of));
  return (
    <>
      <Form.Group controlId="mail-subject">
        <Form.Label className="small mb-0">Subject</Form.Label>
        <Form.Control
          value={typed.subject}
          maxLength={MESSAGE_LENGTH.subject}
          onChange={(e) => set({ subject: e.target.value })}
        />
        {said('subject') && <div className="field-fault">{said('subject')}</div>}
      </Form.Group>
      <Form.Group controlId="mail-text">
        <Form.Label className="small mb-0">Text</Form.Label>
        <Form.Control
          as="textarea"
          rows={8}
          ref={field}
          value={typed.text}
          maxLength={MESSAGE_LENGTH.text}
          onChange={(e) => set({ text: e.target.value })}
        />
        {said('text') && <div className="field-fault">{said('text')}</div>}
      </Form.Group>
    </>
  );
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
