import { NAME_FAULT_WORDS, nameFault, normalizeName } from '@quay/core';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';

/** Asks for a name, judged by the core's rule while it is typed. */
export function NameDialog({
  title,
  initial,
  verb,
  save,
  close,
}: {
  title: string;
  initial: string;
  verb: string;
  save: (name: string) => Promise<unknown>;
  close: () => void;
}) {
  const [name, setName] = useState(initial);
  const [refused, setRefused] = useState<string | null>(null);
  const fault = name === '' ? null : nameFault(normalizeName(name));
  const words = refused ?? (fault && NAME_FAULT_WORDS[fault]);
  const submit = async () => {
    if (fault || name === '') return;
    try {
      await save(normalizeName(name));
      close();
    } catch (error) {
      setRefused((error as Error).message);
    }
  };
  return (
    <Modal show onHide={close} aria-labelledby="name-title" restoreFocus>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" className="h5" id="name-title">
            {title}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <Form.Control
            autoFocus
            aria-label="Name"
            value={name}
            isInvalid={Boolean(words)}
            onFocus={(e) =>
              e.target.setSelectionRange(0, initial.lastIndexOf('.') > 0 ? initial.lastIndexOf('.') : initial.length)
            }
            onChange={(e) => {
              setName(e.target.value);
              setRefused(null);
            }}
          />
          <Form.Control.Feedback type="invalid">{words}</Form.Control.Feedback>
        </Modal.Body>
        <Modal.Footer>
          <Button variant="plain" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={Boolean(fault) || name === ''}>
            {verb}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
