import {
  SIGN_IN_PASSWORD_MIN,
  setupOfficeSchema,
  setupYouSchema,
  type SetupOffice,
  type SetupState,
  type SetupYou,
} from '@quay/contract';
import { signInNameFor, STRONG_ENOUGH_SCORE } from '@quay/core';
import { useEffect, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { useWatch } from 'react-hook-form';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { ZoneField } from '../../ui/zone-field';
import type { StepProps } from './steps';

export function OfficeStep({ state, done }: StepProps) {
  const form = useSchemaForm<SetupOffice>(setupOfficeSchema, {
    name: state.answers.office?.name ?? '',
    zone: state.answers.office?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
  });
  const submit = form.handleSubmit(async (asked) => {
    try {
      done(await api<SetupState>('PUT', '/api/setup/office', asked));
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p>The name stands on every page, also on those of visitors. Shares open and close by this clock.</p>
      <Field
        {...{ form, name: 'name', id: 'office-name' }}
        label="Name of the office"
        autoFocus
        required
        maxLength={80}
      />
      <ZoneField form={form} id="office-zone" />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Keep and go on
        </Button>
      </div>
    </Form>
  );
}

export function YouStep({ state, done }: StepProps) {
  const before = state.answers.you;
  const form = useSchemaForm<SetupYou>(setupYouSchema, {
    name: before?.name ?? '',
    signInName: before?.signInName ?? '',
    email: before?.email ?? '',
    password: '',
  });
  const { name, signInName, password } = useWatch({ control: form.control }) as SetupYou;
  const strength = useStrength(password, [name, signInName, state.answers.office?.name ?? '']);
  const submit = form.handleSubmit(async (asked) => {
    try {
      done(await api<SetupState>('PUT', '/api/setup/you', asked));
    } catch (error) {
      tellRefused(form, error);
    }
  });
  const proposeSignIn = () => {
    if (!form.getValues('signInName')) form.setValue('signInName', signInNameFor(name), { shouldValidate: false });
  };
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p>
        This account runs the server: it sees every common store, and gives others theirs. A second factor can be added
        later.
      </p>
      <div onBlur={proposeSignIn}>
        <Field {...{ form, name: 'name', id: 'you-name' }} label="Your name" autoFocus required autoComplete="name" />
      </div>
      <div className="begin-pair">
        <Field
          {...{ form, name: 'signInName', id: 'you-sign-in' }}
          label="Sign-in name"
          required
          autoComplete="username"
        />
        <Field
          {...{ form, name: 'email', id: 'you-mail' }}
          label="Mail address"
          type="email"
          required
          autoComplete="email"
        />
      </div>
      <Field
        {...{ form, name: 'password', id: 'you-password' }}
        label={`Password, at least ${SIGN_IN_PASSWORD_MIN} characters`}
        {...{ type: 'password', required: true, autoComplete: 'new-password' }}
      />
      {strength && (
        <p className={strength.enough ? 'quiet mb-0' : 'field-advice'} role="status">
          {strength.words}
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

/** How hard a typed password is to guess, in words; the dictionaries come when the first one is typed. */
function useStrength(password: string, context: string[]): { enough: boolean; words: string } | null {
  const [told, setTold] = useState<{ enough: boolean; words: string } | null>(null);
  const known = context.join('\n');
  useEffect(() => {
    if (password === '') return setTold(null);
    let current = true;
    void import('@quay/core/strength').then(({ passwordStrength }) => {
      if (!current) return;
      const { score, warning } = passwordStrength(password, known.toLowerCase().split(/\s+/).filter(Boolean));
      const enough = score >= STRONG_ENOUGH_SCORE;
      const why = warning ? ` ${warning}` : '';
      setTold({
        enough,
        words: enough ? 'Hard to guess.' : `Easy to guess.${why} Three or four unrelated words are better.`,
      });
    });
    return () => {
      current = false;
    };
  }, [password, known]);
  return told;
}
