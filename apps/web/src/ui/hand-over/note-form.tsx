import type { NoteHandOver } from '@quay/contract';
import { HAND_OVER_CHANNEL_WORDS, HANDED_OVER_WORDS, type HandedOver, type HandOverChannel } from '@quay/core';
import { useState, type ReactNode } from 'react';
import { Button, Form } from 'react-bootstrap';
import { tellFailure } from '../notices';
import { useHandOver } from './queries';
import { SameWay } from './same-way';

const rest = () => '';

/** One press that writes down what somebody did by themselves. */
export function NoteIt({
  shareId,
  asked,
  children,
  done,
}: {
  shareId: string;
  asked: Omit<NoteHandOver, 'sameWayMeant'>;
  children: ReactNode;
  done?: () => void;
}) {
  const note = useHandOver<NoteHandOver>(shareId, 'POST', rest);
  return (
    <Button
      size="sm"
      variant="plain"
      disabled={note.isPending}
      onClick={() => note.mutate({ ...asked, sameWayMeant: false }, { onSuccess: done, onError: tellFailure })}
    >
      {children}
    </Button>
  );
}

const CHANNELS = ['telephone', 'in-person', 'paper', 'text', 'own-mail', 'copied'] as const satisfies HandOverChannel[];

/** Writes down that link or password was handed over by somebody themselves. */
export function NoteForm({
  shareId,
  to,
  what,
  done,
}: {
  shareId: string;
  to: string;
  what: HandedOver;
  done: () => void;
}) {
  const [typed, setTyped] = useState<{ what: HandedOver; channel: HandOverChannel; to: string }>({
    ...{ what, channel: 'telephone', to },
  });
  const [sameWayMeant, setSameWayMeant] = useState(false);
  const note = useHandOver<NoteHandOver>(shareId, 'POST', rest);
  const people = typed.to.trim() === '' ? [] : [typed.to.trim()];
  return (
    <Form
      className="d-grid gap-2 mt-2"
      aria-label="Write down what you did"
      onSubmit={(e) => {
        e.preventDefault();
        note.mutate({ what: typed.what, channel: typed.channel, to: people, sameWayMeant }, { onSuccess: done });
      }}
    >
      <Form.Group controlId="note-what">
        <Form.Label className="small mb-0">What they got</Form.Label>
        <Form.Select
          size="sm"
          value={typed.what}
          onChange={(e) => setTyped({ ...typed, what: e.target.value as HandedOver })}
        >
          {(['link', 'password'] as const).map((each) => (
            <option key={each} value={each}>
              {HANDED_OVER_WORDS[each]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="note-how">
        <Form.Label className="small mb-0">How</Form.Label>
        <Form.Select
          size="sm"
          value={typed.channel}
          onChange={(e) => setTyped({ ...typed, channel: e.target.value as HandOverChannel })}
        >
          {CHANNELS.map((channel) => (
            <option key={channel} value={channel}>
              {HAND_OVER_CHANNEL_WORDS[channel]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="note-to">
        <Form.Label className="small mb-0">To whom</Form.Label>
        <Form.Control
          size="sm"
          value={typed.to}
          placeholder="Lena, or an address"
          maxLength={320}
          onChange={(e) => setTyped({ ...typed, to: e.target.value })}
        />
      </Form.Group>
      <SameWay error={note.error} meant={sameWayMeant} set={setSameWayMeant} />
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" size="sm" disabled={note.isPending}>
          Write it down
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}
