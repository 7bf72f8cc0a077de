import type { AddressUses } from '@quay/contract';
import { portabilityFault, type WayIn } from '@quay/core';
import { useState, type FormEvent } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { ApiProblem } from '../../../ui/api';
import { useAddAddress } from '../queries';
import { WAY_WORDS } from '../words';
import { UsesSelect } from './uses-select';

const WAY_ADVICE: Record<WayIn, string> = {
  mapping: 'For a line with a public address and a router that can open a port.',
  fixed: 'For a server that has a public address of its own, which stays the same.',
  relay: 'For a line that is shared or closed: nothing is opened, the relay passes requests on.',
  office: 'For people on the office network or in its tunnel.',
};

/** A new address, typed as it would be read. */
export function AddAddress({ show, close }: { show: boolean; close: () => void }) {
  return (
    <Modal show={show} onHide={close} aria-labelledby="add-address-title">
      {show && <AddForm close={close} />}
    </Modal>
  );
}

function AddForm({ close }: { close: () => void }) {
  const [wayIn, setWayIn] = useState<WayIn>('mapping');
  const [text, setText] = useState('');
  const [uses, setUses] = useState<AddressUses>('visitors');
  const add = useAddAddress();
  const navigate = useNavigate();
  const read = readAddress(text);
  const refused = add.error instanceof ApiProblem ? add.error.message : null;
  const inside = read && wayIn !== 'office' && portabilityFault(read.host);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (read)
      add.mutate(
        { wayIn, uses, ...read },
        {
          onSuccess: (row) => {
            close();
            void navigate(`/reach/addresses/${row.id}`);
          },
        },
      );
  };
  return (
    <Form onSubmit={submit}>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="add-address-title">
          Add an address
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Form.Group className="mb-3" controlId="way-in">
          <Form.Label>Way in</Form.Label>
          <Form.Select value={wayIn} onChange={(e) => setWayIn(e.target.value as WayIn)}>
            {(Object.keys(WAY_WORDS) as WayIn[]).map((w) => (
              <option key={w} value={w}>
                {WAY_WORDS[w]}
              </option>
            ))}
          </Form.Select>
          <Form.Text>{WAY_ADVICE[wayIn]}</Form.Text>
        </Form.Group>
        <Form.Group className="mb-3" controlId="address-text">
          <Form.Label>Address</Form.Label>
          <Form.Control
            autoFocus
            className="mono"
            placeholder="https://files.example.org"
            value={text}
            onChange={(e) => setText(e.target.value)}
            isInvalid={(text !== '' && !read) || refused !== null}
          />
          {text !== '' && !read && (
            <div className="field-fault">That is no address: a name, with or without a port and a path.</div>
          )}
          {inside && (
            <div className="field-advice">
              Only the office network knows that name; links on it will not work outside.
            </div>
          )}
          {refused && <div className="field-fault">{refused}</div>}
        </Form.Group>
        <UsesSelect uses={uses} choose={setUses} />
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Leave it
        </Button>
        <Button type="submit" disabled={!read || add.isPending}>
          {add.isPending ? 'Adding …' : 'Add and check'}
        </Button>
      </Modal.Footer>
    </Form>
  );
}

/** What was typed as an address: https unless something else is said. */
export function readAddress(
  text: string,
): { scheme: 'http' | 'https'; host: string; port: number | null; pathPrefix: string } | null {
  const typed = text.trim().replace(/\/+$/, '');
  const whole = /^[a-z]+:\/\//i.test(typed) ? typed : `https://${typed}`;
  if (typed === '' || !URL.canParse(whole)) return null;
  const url = new URL(whole);
  const scheme = url.protocol.replace(':', '');
  if ((scheme !== 'http' && scheme !== 'https') || url.username || url.search || url.hash) return null;
  return {
    scheme,
    host: url.hostname.replace(/^\[|\]$/g, ''),
    port: url.port === '' ? null : Number(url.port),
    pathPrefix: url.pathname === '/' ? '' : url.pathname,
  };
}
