import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Navigate, useLocation } from 'react-router';
import { api } from '../../ui/api';
import { meQuery } from '../../ui/session';

export function SignIn() {
  const client = useQueryClient();
  const location = useLocation();
  const { data: me } = useQuery(meQuery);
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  if (me) return <Navigate to={(location.state as { from?: string } | null)?.from ?? '/today'} replace />;
  const submit = async () => {
    setBusy(true);
    setProblem(null);
    try {
      await api('POST', '/api/session', { signInName: name, password });
      await client.invalidateQueries({ queryKey: meQuery.queryKey });
    } catch (error) {
      setProblem((error as Error).message);
    } finally {
      setBusy(false);
    }
  };
  return (
    <main className="sign-in">
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <h1 className="h4 d-flex align-items-center gap-2 mb-3">
          <img src="/mark.svg" alt="" width="28" height="28" /> Lockfast Quay
        </h1>
        <Form.Group controlId="name" className="mb-2">
          <Form.Label>Name</Form.Label>
          <Form.Control
            autoFocus
            autoComplete="username"
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Form.Group>
        <Form.Group controlId="password" className="mb-3">
          <Form.Label>Password</Form.Label>
          <Form.Control
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Form.Group>
        {problem && (
          <p className="field-fault" role="alert">
            {problem}
          </p>
        )}
        <Button type="submit" className="w-100" disabled={busy}>
          {busy ? 'Signing in' : 'Sign in'}
        </Button>
      </Form>
    </main>
  );
}
