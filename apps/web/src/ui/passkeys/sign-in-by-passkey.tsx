import { useMutation } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { api } from '../api';
import { keepFocus } from '../form';

/** Where browsers have passkeys, and the server is asked by a name. */
const CAN = typeof window.PublicKeyCredential === 'function' && !/^[\d.]+$|:/.test(window.location.hostname);

/** Signs in by a device, without a name or a password. */
export function SignInByPasskey({ done }: { done: () => void }) {
  const signIn = useMutation({
    mutationFn: async () => {
      const { startAuthentication } = await import('@simplewebauthn/browser');
      const optionsJSON = await api<never>('POST', '/api/session/passkeys/sign-in/begin');
      const response = await startAuthentication({ optionsJSON });
      await api('POST', '/api/session/passkeys/sign-in', { response });
    },
    onSuccess: done,
  });
  if (!CAN) return null;
  return (
    <>
      <Button
        variant="plain"
        className="w-100"
        disabled={signIn.isPending}
        onMouseDown={keepFocus}
        onClick={() => signIn.mutate()}
      >
        Sign in with a passkey
      </Button>
      {signIn.error && (
        <p className="field-fault mb-0" role="alert">
          {signIn.error.name === 'NotAllowedError' ? 'The device did not go on. Try again.' : signIn.error.message}
        </p>
      )}
    </>
  );
}
