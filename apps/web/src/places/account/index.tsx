import { changePasswordSchema, SIGN_IN_PASSWORD_MIN, type ChangePassword } from '@quay/contract';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { useNotices } from '../../ui/notices';
import { useScheme, type Scheme } from '../../ui/scheme';
import { PasskeysSection } from '../../ui/passkeys';
import { SecondFactorSection } from '../../ui/second-factor';
import { useMe } from '../../ui/session';
import { OwnNoticeChoices } from './notices';
import { Sessions } from './sessions';

const SCHEMES: [Scheme, string][] = [
  ['system', 'As the system'],
  ['light', 'Light'],
  ['dark', 'Dark'],
];

export function Account() {
  const me = useMe();
  const { scheme, choose } = useScheme();
  return (
    <>
      <div className="title-line">
        <h1>
          {me.name}.{' '}
          <span className="quiet">
            {me.duties.includes('run-server') ? 'You run this server.' : me.role === 'guest' ? 'Guest.' : 'Staff.'}
          </span>
        </h1>
      </div>
      <div className="two-columns">
        <div>
          {me.passwordHere ? (
            <ChangePasswordForm />
          ) : (
            <p>The directory of the office knows your password. It is changed there.</p>
          )}
          <SecondFactorSection />
          <PasskeysSection />
        </div>
        <section>
          <h2 className="small-head">Appearance</h2>
          <div className="d-flex gap-1" role="group" aria-label="Appearance">
            {SCHEMES.map(([value, words]) => (
              <button
                key={value}
                type="button"
                className="btn btn-choice"
                aria-pressed={scheme === value}
                onClick={() => choose(value)}
              >
                {words}
              </button>
            ))}
          </div>
          <OwnNoticeChoices />
          <Sessions />
          {me.duties.includes('run-server') && (
            <>
              <h2 className="small-head mt-4">The server</h2>
              <Link to="/work">What the server does by itself: mail, times of shares, what was given up</Link>
            </>
          )}
        </section>
      </div>
    </>
  );
}

function ChangePasswordForm() {
  const form = useSchemaForm<ChangePassword>(changePasswordSchema, { current: '', next: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await api('PUT', '/api/session/password', asked);
      form.reset();
      const words = 'Your password is changed. You are signed out everywhere else, and a notice was sent to you.';
      useNotices.getState().show(words);
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <section>
      <h2 className="small-head">Change your password</h2>
      <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
        <Field
          {...{ form, name: 'current', id: 'password-current', label: 'Present password' }}
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
    </section>
  );
}
