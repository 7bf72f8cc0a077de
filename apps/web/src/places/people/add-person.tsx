import { newPersonSchema, type Invitation, type NewPerson } from '@quay/contract';
import { signInNameFor } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { useMe } from '../../ui/session';
import { HandOverChoice } from '../../ui/access/hand-over-choice';
import { InvitationNote } from '../../ui/access/invitation-note';
import { peopleQuery } from '../../ui/queries';
import { usePeopleVerbs } from './verbs';

/** Somebody of the office gets an account, and a link to begin with. */
export function AddPerson({ close }: { close: () => void }) {
  const [given, setGiven] = useState<Invitation | null>(null);
  return (
    <Modal show onHide={close} aria-labelledby="add-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="add-title">
          {given ? `${given.name} has an account` : 'Add a person of the office'}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {given ? (
          <>
            <InvitationNote of={given} />
            <div className="d-flex gap-2 mt-3">
              <Button onClick={() => setGiven(null)}>Add another</Button>
              <Button variant="plain" onClick={close}>
                Done
              </Button>
            </div>
          </>
        ) : (
          <AddForm given={setGiven} />
        )}
      </Modal.Body>
    </Modal>
  );
}

function AddForm({ given }: { given: (invitation: Invitation) => void }) {
  const me = useMe();
  const { add } = usePeopleVerbs();
  const { data } = useQuery(peopleQuery);
  const initial: NewPerson = { name: '', signInName: '', email: '', role: 'staff', groupIds: [], by: 'mail' };
  const form = useSchemaForm<NewPerson>(newPersonSchema, initial);
  const submit = form.handleSubmit(async (asked) => {
    try {
      given(await add.mutateAsync(asked));
    } catch (error) {
      tellRefused(form, error);
    }
  });
  const propose = () => {
    if (!form.getValues('signInName')) form.setValue('signInName', signInNameFor(form.getValues('name')));
  };
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <div onBlur={propose}>
        <Field {...{ form, name: 'name', id: 'add-name', label: 'Name', maxLength: 80 }} autoFocus required />
      </div>
      <Field {...{ form, name: 'email', id: 'add-email', label: 'Mail address', type: 'email' }} required />
      <Field {...{ form, name: 'signInName', id: 'add-sign-in', label: 'Signs in as', maxLength: 40 }} required />
      {me.role === 'admin' && (
        <Form.Check
          type="switch"
          id="add-admin"
          label="An admin: runs the server and every store"
          checked={form.watch('role') === 'admin'}
          onChange={(e) => form.setValue('role', e.target.checked ? 'admin' : 'staff')}
        />
      )}
      <fieldset className="group-choice">
        <legend className="small fw-semibold">Groups</legend>
        {(data?.groups ?? []).map((group) => (
          <Form.Check
            key={group.id}
            id={`add-${group.id}`}
            label={group.name}
            value={group.id}
            {...form.register('groupIds')}
          />
        ))}
      </fieldset>
      <HandOverChoice id="add-by" field={form.register('by')} />
      <FormFault form={form} />
      <Button type="submit" disabled={form.formState.isSubmitting}>
        Make the account
      </Button>
    </Form>
  );
}
