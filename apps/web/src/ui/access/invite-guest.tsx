import { newGuestSchema, type HandOver, type Invitation, type NewGuest } from '@quay/contract';
import { ACCESS_LEVELS, fromLocalField, LEVEL_WORDS, type AccessLevel } from '@quay/core';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { api } from '../api';
import { useChanged } from '../changed';
import { Field, FormFault, tellRefused, useSchemaForm } from '../form';
import { useZone } from '../session';
import { HandOverChoice } from './hand-over-choice';
import { InvitationNote } from './invitation-note';

interface Folder {
  folderId: string;
  name: string;
}

/** Lets somebody from outside into a folder, with an account of their own. */
export function InviteGuest({ folder, email = '', close }: { folder: Folder; email?: string; close: () => void }) {
  const [given, setGiven] = useState<Invitation | null>(null);
  return (
    <Modal show onHide={close} aria-labelledby="invite-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="invite-title">
          {given ? `${given.name} is let in` : `Let a guest into ${folder.name}`}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {given ? (
          <>
            <InvitationNote of={given} />
            <Button className="mt-3" onClick={close}>
              Done
            </Button>
          </>
        ) : (
          <InviteForm folder={folder} email={email} given={setGiven} />
        )}
      </Modal.Body>
    </Modal>
  );
}

interface Typed {
  name: string;
  email: string;
  level: AccessLevel;
  lastDay: string;
  quietDays: string;
  by: HandOver;
}

const INITIAL: Typed = { name: '', email: '', level: 'download', lastDay: '', quietDays: '90', by: 'mail' };
const fieldOf = (path: string): keyof Typed => (path === 'endsAt' ? 'lastDay' : (path as keyof Typed));

interface InviteFormProps {
  folder: Folder;
  email: string;
  given: (invitation: Invitation) => void;
}

function InviteForm({ folder, email, given }: InviteFormProps) {
  const zone = useZone();
  const changed = useChanged();
  const form = useSchemaForm<Typed, NewGuest>(
    newGuestSchema,
    { ...INITIAL, email },
    {
      ask: ({ lastDay, quietDays, ...typed }) => {
        const end = lastDay === '' ? null : fromLocalField(`${lastDay}T23:59`, zone);
        const endsAt = end === null ? null : new Date(end).toISOString();
        return { ...typed, folderId: folder.folderId, endsAt, quietDays: quietDays === '' ? null : Number(quietDays) };
      },
      fieldOf,
    },
  );
  const submit = form.handleSubmit(async (asked) => {
    try {
      const invitation = await api<Invitation>('POST', '/api/guests', asked);
      changed('people');
      given(invitation);
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p className="quiet mb-0">A guest has an account of their own, and sees only what they are let into.</p>
      <Field {...{ form, name: 'name', id: 'guest-name', label: 'Name', maxLength: 80 }} autoFocus required />
      <Field {...{ form, name: 'email', id: 'guest-email', label: 'Mail address', type: 'email' }} required />
      <Form.Group controlId="guest-level">
        <Form.Label>They</Form.Label>
        <Form.Select {...form.register('level')}>
          {ACCESS_LEVELS.filter((level) => level !== 'manage').map((level) => (
            <option key={level} value={level}>
              {LEVEL_WORDS[level]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Field {...{ form, name: 'lastDay', id: 'guest-end', label: 'Last day of the account, if any', type: 'date' }} />
      <Field
        {...{ form, name: 'quietDays', id: 'guest-quiet', type: 'number' }}
        label="Ends after so many days without a visit, if any"
      />
      <HandOverChoice id="guest-by" field={form.register('by')} />
      <FormFault form={form} />
      <Button type="submit" disabled={form.formState.isSubmitting}>
        Let them in
      </Button>
    </Form>
  );
}
