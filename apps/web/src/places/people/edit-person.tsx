import { changePersonSchema, type ChangePerson, type PersonSheet } from '@quay/contract';
import { fromLocalField, toLocalField, type Role } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { useMe, useZone } from '../../ui/session';
import { peopleQuery } from '../../ui/queries';
import { usePeopleVerbs } from './verbs';

interface Typed {
  name: string;
  email: string;
  signInName: string;
  role: Role;
  sponsorId: string;
  lastDay: string;
  quietDays: string;
}

/** What of an account can be changed. Only what is another than before is sent. */
export function EditPerson({ person, done }: { person: PersonSheet; done: () => void }) {
  const me = useMe();
  const zone = useZone();
  const { change } = usePeopleVerbs();
  const before: Typed = {
    ...{ name: person.name, email: person.email, signInName: person.signInName, role: person.role },
    sponsorId: person.sponsor?.id ?? '',
    lastDay: person.endsAt ? toLocalField(Date.parse(person.endsAt), zone).slice(0, 10) : '',
    quietDays: person.quietDays === null ? '' : String(person.quietDays),
  };
  const form = useSchemaForm<Typed, ChangePerson>(changePersonSchema, before, {
    ask: (typed) => askedOf(typed, before, zone),
    fieldOf: (path) => (path === 'endsAt' ? 'lastDay' : (path as keyof Typed)),
  });
  const submit = form.handleSubmit(async (asked) => {
    try {
      if (Object.keys(asked).length > 0) await change.mutateAsync({ id: person.id, asked });
      done();
    } catch (error) {
      tellRefused(form, error, (path) => (path === 'endsAt' ? 'lastDay' : (path as keyof Typed)));
    }
  });
  const isGuest = person.role === 'guest';
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      {person.directory && <p className="quiet mb-0">Name, address and sign-in name are the directory’s.</p>}
      {!person.directory && (
        <>
          <Field {...{ form, name: 'name', id: 'edit-name', label: 'Name', size: 'sm' }} />
          <Field {...{ form, name: 'email', id: 'edit-email', label: 'Mail address', type: 'email', size: 'sm' }} />
          <Field {...{ form, name: 'signInName', id: 'edit-sign-in', label: 'Signs in as', size: 'sm' }} />
        </>
      )}
      {me.role === 'admin' && (
        <Form.Group controlId="edit-role">
          <Form.Label>Account</Form.Label>
          <Form.Select size="sm" {...form.register('role')}>
            <option value="staff">staff</option>
            <option value="admin">admin: runs the server and every store</option>
            {isGuest && <option value="guest">guest</option>}
          </Form.Select>
        </Form.Group>
      )}
      {isGuest && (
        <>
          <Sponsor register={form.register('sponsorId')} />
          <Field {...{ form, name: 'lastDay', id: 'edit-end', label: 'Last day, if any', type: 'date', size: 'sm' }} />
          <Field
            {...{ form, name: 'quietDays', id: 'edit-quiet', type: 'number', size: 'sm' }}
            label="Ends after so many days without a visit, if any"
          />
        </>
      )}
      <FormFault form={form} />
      <div className="d-flex gap-2">
        <Button type="submit" size="sm" disabled={form.formState.isSubmitting}>
          Save
        </Button>
        <Button variant="plain" size="sm" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}

function Sponsor({ register }: { register: object }) {
  const { data } = useQuery(peopleQuery);
  const staff = (data?.people ?? []).filter((p) => p.role !== 'guest' && p.state !== 'disabled');
  return (
    <Form.Group controlId="edit-sponsor">
      <Form.Label>Guest of</Form.Label>
      <Form.Select size="sm" {...register}>
        <option value="">nobody</option>
        {staff.map((p) => (
          <option key={p.id} value={p.id}>
            {p.name}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}

function askedOf(typed: Typed, before: Typed, zone: string): ChangePerson {
  const isOther = (key: keyof Typed) => typed[key] !== before[key];
  const end = typed.lastDay === '' ? null : fromLocalField(`${typed.lastDay}T23:59`, zone);
  return {
    ...(isOther('name') && { name: typed.name }),
    ...(isOther('email') && { email: typed.email }),
    ...(isOther('signInName') && { signInName: typed.signInName }),
    ...(isOther('role') && { role: typed.role }),
    ...(isOther('sponsorId') && typed.sponsorId !== '' && { sponsorId: typed.sponsorId }),
    ...(isOther('lastDay') && { endsAt: end === null ? null : new Date(end).toISOString() }),
    ...(isOther('quietDays') && { quietDays: typed.quietDays === '' ? null : Number(typed.quietDays) }),
  };
}
