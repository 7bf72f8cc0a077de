import { changePasswordSchema, SIGN_IN_PASSWORD_MIN, type ChangePassword } from '@quay/contract';
import { Button, Form } from 'react-bootstrap';
import { api } from './api';
import { Field, FormFault, tellRefused, useSchemaForm } from './form';

/** Changes the own password. @param present what the present one is called */
export function ChangePasswordForm({ present, done }: { present: string; done: () => void }) {
  const form = useSchemaForm<ChangePassword>(changePasswordSchema, { current: '', next: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await api('PUT', '/api/session/password', asked);
      form.reset();
      done();
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <Field
        {...{ form, name: 'current', id: 'password-current', label: present }}
        {...{ type: 'password', required: true, autoComplete: 'current-password' }}
      />
      <Field
        {...{ form, name: 'next', id: 'password-next' }}
        label={`New password, at least ${SIGN_IN_PASSWORD_MIN} characters`}
        {...{ type: 'password', required: true, autoComplete: 'new-password' }}
      />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Change password
        </Button>
      </div>
    </Form>
  );
}
