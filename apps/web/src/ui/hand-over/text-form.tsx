import type { HandOverByText, HandOvers } from '@quay/contract';
import { countOf, HANDED_OVER_WORDS, linkText, passwordText } from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { v7 as uuidv7 } from 'uuid';
import { ApiProblem } from '../api';
import { useNotices } from '../notices';
import { addresseeText, useAddressees, useHandOver } from './queries';
import { SameWay } from './same-way';
import { ToField } from './to-field';

interface TextFormProps {
  shareId: string;
  by: HandOvers;
  to: string;
  what: 'link' | 'password';
  /** Null: it is not known any more. */
  password: string | null;
  done: () => void;
}

/** Link or password as a text message, through the gateway of the office. */
export function TextForm({ shareId, by, to, what, password, done }: TextFormProps) {
  const [typed, setTyped] = useState(to);
  const [sameWayMeant, setSameWayMeant] = useState(false);
  const [sendingId] = useState(() => uuidv7());
  const read = useAddressees(typed, 'number');
  const send = useHandOver<HandOverByText>(shareId, 'POST', () => '/text');
  const people = read?.to ?? [];
  const isReady = people.length > 0 && read?.faults.length === 0 && (what === 'link' || password !== null);
  const fault =
    send.error instanceof ApiProblem
      ? send.error.body.errors?.find((e) => e.field.startsWith('to'))?.detail
      : undefined;
  const shown = what === 'link' ? linkText(by.values) : passwordText(by.values.sender, '…');
  return (
    <Form
      noValidate
      className="d-grid gap-2 mt-2"
      aria-label={`Send ${HANDED_OVER_WORDS[what]} as a text message`}
      onSubmit={(e) => {
        e.preventDefault();
        if (!isReady || send.isPending) return;
        send.mutate(
          {
            ...{ sendingId, to: people.map(addresseeText), what, sameWayMeant },
            ...(what === 'password' && { password: password ?? '' }),
          },
          {
            onSuccess: () => {
              const words = HANDED_OVER_WORDS[what].replace(/^t/, 'T');
              useNotices.getState().show(`${words} is on its way to ${countOf(people.length, 'telephone')}.`);
              done();
            },
          },
        );
      }}
    >
      <ToField {...{ id: 'text-to', kind: 'number', value: typed, set: setTyped, fault }} />
      <p className="quiet small mb-0">They read: “{shown}”</p>
      <SameWay error={send.error} meant={sameWayMeant} set={setSameWayMeant} />
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" size="sm" disabled={!isReady || send.isPending}>
          {people.length > 1 ? `Send to ${countOf(people.length, 'telephone')}` : 'Send'}
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}
