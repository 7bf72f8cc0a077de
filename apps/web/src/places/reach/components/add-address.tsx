import { newAddressSchema, type AddressUses, type NewAddress } from '@quay/contract';
import { portabilityFault, type WayAdvised, type WayIn } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button, Form, Modal, Spinner } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../../ui/form';
import { networkQuery, useAddAddress } from '../queries';
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

interface Typed {
  wayIn: WayIn;
  uses: AddressUses;
  text: string;
}
const NO_ADDRESS = 'That is no address: a name, with or without a port and a path.';
const fieldOf = (path: string): keyof Typed => (path === 'wayIn' || path === 'uses' ? path : 'text');

/** The network is looked at before anything is asked: what fits it is what is proposed. */
function AddForm({ close }: { close: () => void }) {
  const { data, error } = useQuery(networkQuery);
  if (!data && !error)
    return (
      <Modal.Body role="status">
        <Spinner animation="border" size="sm" aria-hidden /> Looking at this network …
      </Modal.Body>
    );
  return <AddressForm close={close} advice={data?.advice ?? null} />;
}

function AddressForm({ close, advice }: { close: () => void; advice: WayAdvised | null }) {
  const add = useAddAddress();
  const navigate = useNavigate();
  const initial: Typed = { wayIn: advice?.wayIn ?? 'mapping', uses: 'visitors', text: '' };
  const form = useSchemaForm<Typed, NewAddress>(newAddressSchema, initial, {
    ask: ({ wayIn, uses, text }) => ({ wayIn, uses, ...(readAddress(text) ?? BLANK) }),
    faults: ({ text }) => ({ text: readAddress(text) ? null : NO_ADDRESS }),
    fieldOf,
  });
  const { wayIn, uses, text } = form.watch();
  const read = readAddress(text);
  const submit = form.handleSubmit(async (asked) => {
    try {
      const row = await add.mutateAsync(asked);
      close();
      void navigate(`/reach/addresses/${row.id}`);
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)}>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="add-address-title">
          Add an address
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {advice && <p className="advised">{advice.words}</p>}
        <Form.Group className="mb-3" controlId="way-in">
          <Form.Label>Way in</Form.Label>
          <Form.Select {...form.register('wayIn')}>
            {(Object.keys(WAY_WORDS) as WayIn[]).map((w) => (
              <option key={w} value={w}>
                {WAY_WORDS[w]}
              </option>
            ))}
          </Form.Select>
          <Form.Text>{WAY_ADVICE[wayIn]}</Form.Text>
        </Form.Group>
        <div className="mb-3">
          <Field
            {...{ form, name: 'text', id: 'address-text', label: 'Address' }}
            {...{ autoFocus: true, className: 'mono', placeholder: 'https://files.example.org' }}
          />
          {read && wayIn !== 'office' && portabilityFault(read.host) && (
            <div className="field-advice">
              Only the office network knows that name; links on it will not work outside.
            </div>
          )}
          <FormFault form={form} />
        </div>
        <UsesSelect uses={uses} choose={(chosen) => form.setValue('uses', chosen)} />
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

/** Until an address can be read. */
const BLANK = { scheme: 'https', host: '', port: null, pathPrefix: '' } as const;

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
