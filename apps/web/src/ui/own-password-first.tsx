import type { Me } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
import { Alone } from './alone';
import { ChangePasswordForm } from './change-password';

/** What somebody does first who came in by a password that was made for them. */
export function OwnPasswordFirst({ me }: { me: Me }) {
  const client = useQueryClient();
  return (
    <Alone title="A password of your own">
      <p>
        Welcome, {me.name}. Somebody at {me.office.name} made your password and knows it: choose one that only you know.
        Then everything is open to you.
      </p>
      <ChangePasswordForm
        present="The password you were given"
        done={() => void client.invalidateQueries({ queryKey: ['me'] })}
      />
    </Alone>
  );
}
