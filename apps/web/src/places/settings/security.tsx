import { securitySettingsSchema, type SecuritySettings, type WouldDo } from '@quay/contract';
import {
  FACTOR_WANTED_WORDS,
  SIGN_IN_OUTSIDE_WORDS,
  STRENGTH_WORDS,
  type FactorWanted,
  type SignInOutside,
} from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { useWatch, type UseFormReturn } from 'react-hook-form';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { Does } from './does';
import { securityQuery, securityWouldDoQuery } from './queries';

export function SecuritySettingsForm() {
  const { data, error, refetch } = useQuery(securityQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  return data ? <SecurityForm key={JSON.stringify(data)} kept={data} /> : <SkeletonRows count={4} />;
}

interface Typed {
  sessionDays: string;
  leastStrength: string;
  factorWanted: FactorWanted;
  factorGraceDays: string;
  signInOutside: SignInOutside;
}
const asked = (typed: Typed): SecuritySettings => ({
  ...typed,
  sessionDays: Number(typed.sessionDays),
  leastStrength: Number(typed.leastStrength),
  factorGraceDays: Number(typed.factorGraceDays),
});

function SecurityForm({ kept }: { kept: SecuritySettings }) {
  const client = useQueryClient();
  const form = useSchemaForm<Typed, SecuritySettings>(
    securitySettingsSchema,
    {
      ...kept,
      sessionDays: String(kept.sessionDays),
      leastStrength: String(kept.leastStrength),
      factorGraceDays: String(kept.factorGraceDays),
    },
    { ask: asked },
  );
  const does = useWouldDo(asked(useWatch({ control: form.control }) as Typed));
  const keep = async (next: SecuritySettings) =>
    client.setQueryData(securityQuery.queryKey, await api<SecuritySettings>('PUT', '/api/settings/security', next));
  const submit = form.handleSubmit(async (next) => {
    try {
      await keep(next);
      // Sessions that have ended do not come back; what is asked from now on does.
      useNotices.getState().show('That holds from now on.', { undo: () => void keep(kept).catch(tellFailure) });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <Field
        {...{ form, name: 'sessionDays', id: 'session-days', inputMode: 'numeric', maxLength: 3 }}
        label="Whoever does nothing for so many days has to sign in again"
      />
      <Choice {...{ form, name: 'leastStrength' }} label="A new password has to be" choices={STRENGTH_WORDS} />
      <Choice
        {...{ form, name: 'factorWanted' }}
        label="A second factor is wanted from"
        choices={FACTOR_WANTED_WORDS}
      />
      {form.watch('factorWanted') !== 'nobody' && (
        <Field
          {...{ form, name: 'factorGraceDays', id: 'factor-grace', inputMode: 'numeric', maxLength: 2 }}
          label="Days to set one up, before it stands in anybody’s way"
        />
      )}
      <Choice
        {...{ form, name: 'signInOutside' }}
        label="From outside the office signs in"
        choices={SIGN_IN_OUTSIDE_WORDS}
      />
      <Does words={does} />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting || !form.formState.isDirty}>
          Change that
        </Button>
      </div>
    </Form>
  );
}

interface ChoiceProps {
  form: UseFormReturn<Typed, unknown, SecuritySettings>;
  name: keyof Typed;
  label: string;
  /** What can be chosen, and how it reads. */
  choices: Record<string, string>;
}

function Choice({ form, name, label, choices }: ChoiceProps) {
  const error = form.getFieldState(name, form.formState).error;
  return (
    <Form.Group controlId={name}>
      <Form.Label>{label}</Form.Label>
      <Form.Select {...form.register(name)} isInvalid={Boolean(error)} aria-describedby={error && `${name}-fault`}>
        {Object.entries(choices).map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </Form.Select>
      {error && (
        <div className="field-fault" id={`${name}-fault`} role="alert">
          {error.message}
        </div>
      )}
    </Form.Group>
  );
}

/** What a change would do, as the server says it; nothing while what is typed cannot be. */
function useWouldDo(settings: SecuritySettings): string[] {
  const isSound = !securitySettingsSchema.validate(settings).error;
  const { data } = useQuery({ ...securityWouldDoQuery(settings), enabled: isSound });
  return isSound ? ((data as WouldDo | undefined)?.words ?? []) : [];
}
