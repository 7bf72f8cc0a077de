import type { SetupDone, SetupState } from '@quay/contract';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../../ui/api';
import { Failure } from '../../ui/states';

const ASK_MS = 500;
const PATIENCE_MS = 60_000;

/** Makes the office of all that was answered, and goes in. */
export function Finish({ state }: { state: SetupState }) {
  const [busy, setBusy] = useState(false);
  const [fault, setFault] = useState<unknown>(null);
  const { office, you, wayIn } = state.answers;
  const finish = async () => {
    setBusy(true);
    setFault(null);
    try {
      const { restarts } = await api<SetupDone>('POST', '/api/setup/finish');
      if (restarts) await untilItServes();
      // Everything is loaded anew: nothing of the first start is of use any more.
      location.assign(wayIn?.kind === 'inside' ? '/today' : '/reach');
    } catch (error) {
      setFault(error);
      setBusy(false);
    }
  };
  return (
    <section className="begin-step d-block">
      <h2>All answered</h2>
      <p>
        Nothing so far was final. With this {office?.name} begins, and {you?.name} is signed in.
      </p>
      {fault !== null && <Failure error={fault} />}
      <Button disabled={busy} onClick={() => void finish()}>
        {busy ? 'Making the office' : `Open ${office?.name}`}
      </Button>
    </section>
  );
}

/** The server begins anew where the bytes lie now. */
async function untilItServes(): Promise<void> {
  for (const until = Date.now() + PATIENCE_MS; Date.now() < until;) {
    await new Promise((resolve) => setTimeout(resolve, ASK_MS));
    const answer = await fetch('/api/session').catch(() => null);
    if (answer?.ok) return;
  }
  throw new Error('The server has not come back within a minute. Its terminal says why.');
}
