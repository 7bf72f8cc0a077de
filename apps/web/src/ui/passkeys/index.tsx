import { type Passkeys } from '@quay/contract';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../api';
import { Failure, SkeletonRows } from '../states';
import { tellFailure, useNotices } from '../notices';
import { When } from '../words';

const KEY = ['factor', 'passkeys'] as const;

/** The own passkeys: devices that sign in for whoever holds them. */
export function PasskeysSection() {
  const client = useQueryClient();
  const { show } = useNotices();
  const [adding, setAdding] = useState(false);
  const { data, error, refetch } = useQuery({
    queryKey: KEY,
    queryFn: () => api<Passkeys>('GET', '/api/session/passkeys'),
  });
  const remove = useMutation({
    mutationFn: (id: string) => api<Passkeys>('DELETE', `/api/session/passkeys/${id}`),
    onSuccess: (keys) => {
      client.setQueryData(KEY, keys);
      show('That passkey opens nothing any more.');
    },
    onError: tellFailure,
  });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={2} />;
  return (
    <section>
      <h2 className="small-head mt-4">Passkeys</h2>
      {data.keys.length === 0 && (
        <p className="mb-2">
          A passkey lies on a telephone, a computer or a security key, which asks you before it signs in. It takes the
          place of password and code.
        </p>
      )}
      <ul className="list-unstyled">
        {data.keys.map((key) => (
          <li key={key.id} className="d-flex align-items-center gap-2 mb-1">
            <span>
              <strong>{key.name}</strong>{' '}
              <span className="quiet">
                at {key.host}, added <When at={key.addedAt} brief />
                {key.usedAt && (
                  <>
                    , last used <When at={key.usedAt} brief />
                  </>
                )}
              </span>
            </span>
            <Button variant="plain" size="sm" className="ms-auto" onClick={() => remove.mutate(key.id)}>
              Remove<span className="visually-hidden"> {key.name}</span>
            </Button>
          </li>
        ))}
      </ul>
      {data.hindrance ? (
        <p className="quiet mb-0">{data.hindrance}</p>
      ) : adding ? (
        <AddPasskey done={() => setAdding(false)} />
      ) : (
        <Button variant="plain" onClick={() => setAdding(true)}>
          Add a passkey
        </Button>
      )}
    </section>
  );
}

function AddPasskey({ done }: { done: () => void }) {
  const client = useQueryClient();
  const { show } = useNotices();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const add = useMutation({
    mutationFn: async () => {
      // Loaded by those who have one.
      const { startRegistration } = await import('@simplewebauthn/browser');
      const optionsJSON = await api<never>('POST', '/api/session/passkeys/begin', { password });
      const response = await startRegistration({ optionsJSON });
      return api<Passkeys>('POST', '/api/session/passkeys', { name: name.trim() || 'Passkey', response });
    },
    onSuccess: (keys) => {
      client.setQueryData(KEY, keys);
      show('The passkey signs you in from now on.');
      done();
    },
  });
  return (
    <Form
      noValidate
      className="d-grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <Form.Group controlId="passkey-name">
        <Form.Label>What you call it</Form.Label>
        <Form.Control
          value={name}
          maxLength={60}
          placeholder="My telephone"
          autoFocus
          onChange={(e) => setName(e.target.value)}
        />
      </Form.Group>
      <Form.Group controlId="passkey-password">
        <Form.Label>Your password</Form.Label>
        <Form.Control
          type="password"
          value={password}
          autoComplete="current-password"
          onChange={(e) => setPassword(e.target.value)}
        />
      </Form.Group>
      {add.error && (
        <p className="field-fault mb-0" role="alert">
          {add.error.name === 'NotAllowedError' ? 'The device did not go on. Try again.' : add.error.message}
        </p>
      )}
      <div className="d-flex gap-2">
        <Button type="submit" disabled={add.isPending || password === ''}>
          Add it
        </Button>
        <Button variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}
