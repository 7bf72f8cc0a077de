import type { Me } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Alone } from '../alone';
import { MeContext } from '../session';
import './index.scss';
import { RecoveryCodeList } from './recovery-codes';
import { SetUp } from './set-up';

interface Props {
  me: Me;
  /** Told when codes are shown that nobody shows again, and when they are kept. */
  hold: (held: boolean) => void;
}

/** All that is open to somebody of whom the office wants a second factor that they do not have. */
export function FactorFirst({ me, hold }: Props) {
  const client = useQueryClient();
  const [codes, setCodes] = useState<string[] | null>(null);
  const made = (fresh: string[]) => {
    hold(true);
    setCodes(fresh);
  };
  const kept = async () => {
    await client.invalidateQueries({ queryKey: ['me'] });
    hold(false);
  };
  return (
    <MeContext value={me}>
      <Alone title="A second factor" isLast={codes !== null}>
        <div className="second-factor">
          {codes ? (
            <RecoveryCodeList codes={codes} kept={() => void kept()} />
          ) : (
            <>
              <p>
                {me.office.name} wants a second factor of you: from now on, signing in also takes a code of your
                telephone. An authenticator, any of them, shows it. This takes two minutes, once.
              </p>
              <SetUp done={made} />
            </>
          )}
        </div>
      </Alone>
    </MeContext>
  );
}
