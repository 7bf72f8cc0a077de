import { SIGN_IN_PASSWORD_MIN, type ChangePassword } from '@quay/contract';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api, ApiProblem } from '../../ui/api';
import { useNotices } from '../../ui/notices';
import { useScheme, type Scheme } from '../../ui/scheme';
import { useMe } from '../../ui/session';

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
        <ChangePasswordForm />
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
  const blank = { current: '', next: '' };
  const [form, setForm] = useState<ChangePassword>(blank);
  const [problem, setProblem] = useState<ApiProblem | null>(null);
  const { show } = useNotices();
  const submit = async () => {
    try {
      await api('PUT', '/api/session/password', form);
      setForm(blank);
      setProblem(null);
      show('Your password is changed. You are signed out everywhere else, and a notice was sent to you.');
    } catch (error) {
      setProblem(error as ApiProblem);
    }
  };
  return (
    <section>
      <h2 className="small-head">Change your password</h2>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        {(['current', 'next'] as const).map((name) => (
          <Form.Group key={name} controlId={`password-${name}`} className="mb-2">
            <Form.Label>
              {name === 'current' ? 'Present password' : `New password, at least ${SIGN_IN_PASSWORD_MIN} characters`}
            </Form.Label>
            <Form.Control
              type="password"
              required
              minLength={name === 'next' ? SIGN_IN_PASSWORD_MIN : undefined}
              autoComplete={name === 'current' ? 'current-password' : 'new-password'}
              value={form[name]}
              isInvalid={Boolean(problem?.field(name))}
              onChange={(e) => setForm({ ...form, [name]: e.target.value })}
            />
            <Form.Control.Feedback type="invalid">{problem?.field(name)}</Form.Control.Feedback>
          </Form.Group>
        ))}
        {problem && !problem.body.errors && (
          <p className="field-fault" role="alert">
            {problem.message}
          </p>
        )}
        <Button type="submit">Change password</Button>
      </Form>
    </section>
  );
}
