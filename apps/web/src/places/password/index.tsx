import { setPasswordSchema, SIGN_IN_PASSWORD_MIN, type PasswordLink, type SetPassword } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { useNavigate, useParams } from 'react-router';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { Failure, SkeletonRows } from '../../ui/states';
import './index.scss';

/** Somebody sets a password of their own, by a link that was given to them. */
export function SetOwnPassword() {
  const { token = '' } = useParams();
  const { data, error, isPending } = useQuery({
    queryKey: ['password-link', token],
    queryFn: () => api<PasswordLink>('GET', `/api/password-links/${token}`),
    retry: false,
    staleTime: Infinity,
  });
  return (
    <main className="set-password">
      <h1 className="h4">Your password</h1>
      {isPending && <SkeletonRows count={3} />}
      {error && <Failure error={error} />}
      {data && <PasswordForm link={data} token={token} />}
    </main>
  );
}

function PasswordForm({ link, token }: { link: PasswordLink; token: string }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const form = useSchemaForm<SetPassword>(setPasswordSchema, {
    password: '',
    ...(link.begins && { name: link.name }),
  });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await api('POST', `/api/password-links/${token}`, asked);
      client.setQueryData(['me'], null);
      void navigate('/sign-in', { replace: true });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p>
        {link.name}, choose the password by which you sign in to {link.office} as <strong>{link.signInName}</strong>.
        {link.begins
          ? 'Your mail address can be typed in its place.'
          : 'You are signed out wherever you are signed in now.'}
      </p>
      {link.begins && (
        <Field {...{ form, name: 'name', id: 'own-name', label: 'What you are called', maxLength: 80 }} />
      )}
      <input type="hidden" name="username" autoComplete="username" value={link.signInName} readOnly />
      <Field
        {...{ form, name: 'password', id: 'new-password', type: 'password', autoComplete: 'new-password' }}
        label={`Password, at least ${SIGN_IN_PASSWORD_MIN} characters`}
        autoFocus
        required
      />
      <FormFault form={form} />
      <Button type="submit" disabled={form.formState.isSubmitting}>
        Set the password
      </Button>
    </Form>
  );
}
