import {
  setupStoresSchema,
  setupWayInSchema,
  type SetupState,
  type SetupStores,
  type SetupWayIn,
} from '@quay/contract';
import { addressScope } from '@quay/core';
import { Button, Form } from 'react-bootstrap';
import { useWatch } from 'react-hook-form';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import type { StepProps } from './steps';

interface TypedStores {
  /** A name on each line. */
  names: string;
  homes: boolean;
}

export function StoresStep({ state, done }: StepProps) {
  const before = state.answers.stores;
  const form = useSchemaForm<TypedStores, SetupStores>(
    setupStoresSchema,
    { names: (before?.names ?? ['Office', 'Projects']).join('\n'), homes: before?.homes ?? true },
    {
      ask: ({ names, homes }) => ({
        names: names.split('\n').flatMap((name) => (name.trim() === '' ? [] : [name.trim()])),
        homes,
      }),
      fieldOf: (path) => (path.startsWith('names') ? 'names' : 'homes'),
    },
  );
  const submit = form.handleSubmit(async (asked) => {
    try {
      done(await api<SetupState>('PUT', '/api/setup/stores', asked));
    } catch (error) {
      tellRefused(form, error, () => 'names');
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p>
        A store is a storage area with rules of its own. All staff may edit in these; more and other rights come later.
      </p>
      <Field
        {...{ form, name: 'names', id: 'stores', as: 'textarea', rows: 3 }}
        label="Stores, one on each line"
        autoFocus
        required
      />
      <Form.Check id="homes" label="Everybody gets a place of their own, too" {...form.register('homes')} />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Keep and go on
        </Button>
      </div>
    </Form>
  );
}

const WAYS: [SetupWayIn['kind'], string, string][] = [
  ['name', 'By an own name', 'a port on the router is opened and led here; Reach does it, and proves it from outside'],
  [
    'relay',
    'Through a relay',
    'where no port can be opened: a machine elsewhere passes visitors on, and reads nothing',
  ],
  ['inside', 'Only inside for now', 'links work in the office network; the rest can be added any day'],
];

export function WayInStep({ state, done }: StepProps) {
  const before = state.answers.wayIn;
  const form = useSchemaForm<SetupWayIn>(setupWayInSchema, {
    kind: before?.kind ?? 'name',
    inside: before?.inside ?? location.origin,
  });
  const inside = useWatch({ control: form.control, name: 'inside' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      done(await api<SetupState>('PUT', '/api/setup/way-in', asked));
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p>How do people outside get to what you publish?</p>
      <fieldset className="begin-ways">
        <legend className="visually-hidden">How outsiders get in</legend>
        {WAYS.map(([kind, title, words]) => (
          <label key={kind}>
            <input type="radio" className="form-check-input" value={kind} {...form.register('kind')} />
            <strong>{title}</strong>
            <span className="quiet">{words}</span>
          </label>
        ))}
      </fieldset>
      <Field
        {...{ form, name: 'inside', id: 'inside' }}
        label="Until then, people in the office find the server at"
        required
      />
      {isLoopback(inside) && (
        <p className="field-advice">
          Only this machine finds itself under that name. Write its address in the office network.
        </p>
      )}
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Keep and go on
        </Button>
      </div>
    </Form>
  );
}

function isLoopback(origin: string): boolean {
  const host = /^https?:\/\/(\[[^\]]+\]|[^:/]+)/i.exec(origin)?.[1]?.replace(/[[\]]/g, '').toLowerCase() ?? '';
  return host === 'localhost' || addressScope(host) === 'loopback';
}
