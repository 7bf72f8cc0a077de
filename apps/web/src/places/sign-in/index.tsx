import { signInSchema, type SignIn as SignInAsked } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import type { UseFormReturn } from 'react-hook-form';
import { Navigate, useLocation, useNavigate, useSearchParams } from 'react-router';
import { api, ApiProblem } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { SignInByProvider } from '../../ui/provider/sign-in-by-provider';
import { SignInByPasskey } from '../../ui/passkeys/sign-in-by-passkey';
import { CodeField } from '../../ui/second-factor/code-field';
import { meQuery } from '../../ui/session';
import './index.scss';

type Typed = Required<SignInAsked>;

/** Without a code until one is asked for. */
const ask = ({ code, remember, ...rest }: Typed): SignInAsked => (code === '' ? rest : { ...rest, code, remember });

/** Name and password are the provider's matter: the form asks for the code alone. */
const FROM_PROVIDER: Typed = { signInName: 'provider', password: 'provider', code: '', remember: false };

/** The page of a share, which is no part of this application. */
/** A link of a share or an intake: its page is another, and is loaded. */
const LINK_PATH = /^\/[sh]\/[0-9A-Za-z]{22}$/;

function GoTo({ path }: { path: string }) {
  useEffect(() => window.location.replace(path), [path]);
  return null;
}

export function SignIn() {
  const client = useQueryClient();
  const location = useLocation();
  const navigate = useNavigate();
  const { data: me } = useQuery(meQuery);
  const [params] = useSearchParams();
  /** They came back from the identity provider, and a code is wanted of them. */
  const fromProvider = params.get('wants') === 'code';
  const [asksCode, setAsksCode] = useState(fromProvider);
  const form = useSchemaForm<Typed, SignInAsked>(
    signInSchema,
    fromProvider ? FROM_PROVIDER : { signInName: '', password: '', code: '', remember: false },
    { ask },
  );
  const busy = form.formState.isSubmitting;
  const link = LINK_PATH.exec(params.get('back') ?? '')?.[0] ?? null;
  const goingTo = link ?? (location.state as { from?: string } | null)?.from ?? '/';
  if (me && link) return <GoTo path={link} />;
  if (me) return <Navigate to={goingTo} replace />;
  const submit = form.handleSubmit(async (asked) => {
    try {
      if (fromProvider)
        await api('POST', '/api/sign-in/provider/code', { code: asked.code ?? '', remember: asked.remember });
      else await api('POST', '/api/session', asked);
      await client.invalidateQueries({ queryKey: meQuery.queryKey });
    } catch (error) {
      // The password was right; what is typed so far stays.
      if (error instanceof ApiProblem && error.code === 'sign-in.code-wanted') setAsksCode(true);
      else tellRefused(form, error);
    }
  });
  const anew = () => {
    form.reset();
    setAsksCode(false);
    if (fromProvider) void navigate('/sign-in', { replace: true });
  };
  return (
    <main className="sign-in">
      <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
        <h1 className="h4 d-flex align-items-center gap-2 mb-2">
          <img src="/mark.svg" alt="" width="28" height="28" /> Lockfast Quay
        </h1>
        {asksCode ? (
          <Code form={form} />
        ) : (
          <>
            <Field
              form={form}
              name="signInName"
              id="name"
              label="Name or mail address"
              autoFocus
              autoComplete="username"
              required
            />
            <Field
              {...{ form, name: 'password', id: 'password', label: 'Password' }}
              type="password"
              autoComplete="current-password"
              required
            />
          </>
        )}
        <FormFault form={form} />
        <Button type="submit" className="w-100 mt-2" disabled={busy}>
          {busy ? 'Signing in' : 'Sign in'}
        </Button>
        {!asksCode && <SignInByProvider back={goingTo} />}
        {!asksCode && <SignInByPasskey done={() => void client.invalidateQueries({ queryKey: meQuery.queryKey })} />}
        {asksCode && (
          <button type="button" className="link" onClick={anew}>
            Sign in as somebody else
          </button>
        )}
      </Form>
    </main>
  );
}

/** What is asked of whoever has a second factor. */
function Code({ form }: { form: UseFormReturn<Typed, unknown, SignInAsked> }) {
  return (
    <>
      <CodeField form={form} id="code" />
      <Form.Check id="remember" label="Ask for no code in this browser for 30 days" {...form.register('remember')} />
    </>
  );
}
