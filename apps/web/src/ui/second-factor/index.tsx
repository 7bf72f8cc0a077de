import { factorCodeSchema, type FactorCode, type RecoveryCodes, type SecondFactor } from '@quay/contract';
import { countOf } from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../api';
import { FormFault, tellRefused, useSchemaForm } from '../form';
import { tellFailure, useNotices } from '../notices';
import { Failure, SkeletonRows } from '../states';
import { When } from '../words';
import { CodeField } from './code-field';
import './index.scss';
import { RecoveryCodeList } from './recovery-codes';
import { SetUp } from './set-up';

type Doing = 'nothing' | 'setting-up' | 'new-codes' | 'ending';
const KEY = ['factor'] as const;

/** The own second factor: whether there is one, and what can be done about it. */
export function SecondFactorSection() {
  const client = useQueryClient();
  const [doing, setDoing] = useState<Doing>('nothing');
  // Shown this once, whatever else is asked again meanwhile.
  const [codes, setCodes] = useState<string[] | null>(null);
  const { data, error, refetch } = useQuery({
    queryKey: KEY,
    queryFn: () => api<SecondFactor>('GET', '/api/session/factor'),
  });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={2} />;
  const settled = async (fresh: string[] | null) => {
    setDoing('nothing');
    setCodes(fresh);
    await Promise.all([client.invalidateQueries({ queryKey: KEY }), client.invalidateQueries({ queryKey: ['left'] })]);
  };
  return (
    <section className="second-factor">
      <h2 className="small-head mt-4">Second factor</h2>
      {codes ? (
        <RecoveryCodeList codes={codes} kept={() => setCodes(null)} />
      ) : (
        <State factor={data} doing={doing} choose={setDoing} settled={settled} />
      )}
    </section>
  );
}

interface StateProps {
  factor: SecondFactor;
  doing: Doing;
  choose: (doing: Doing) => void;
  settled: (codes: string[] | null) => Promise<void>;
}

function State({ factor, doing, choose, settled }: StateProps) {
  if (doing === 'setting-up') return <SetUp done={(codes) => void settled(codes)} cancel={() => choose('nothing')} />;
  if (doing === 'new-codes' || doing === 'ending')
    return <WithCode act={doing} settled={settled} cancel={() => choose('nothing')} />;
  if (!factor.on)
    return (
      <>
        <p>
          Signing in takes your password alone. With a second factor it also takes a code of your telephone, so that a
          password that was overheard opens nothing.
        </p>
        <Button variant="plain" onClick={() => choose('setting-up')}>
          Set one up
        </Button>
      </>
    );
  return (
    <>
      <p>
        Signing in takes a code of your authenticator
        {factor.since && (
          <>
            , since <When at={factor.since} />
          </>
        )}
        .{' '}
        {factor.recoveryLeft === 0
          ? 'No recovery code is left.'
          : `${countOf(factor.recoveryLeft, 'recovery code')} left.`}
        {factor.browsers > 0 && ` In ${countOf(factor.browsers, 'browser')} none is asked for.`}
      </p>
      <div className="d-flex flex-wrap gap-2">
        <Button variant="plain" onClick={() => choose('new-codes')}>
          New recovery codes
        </Button>
        {factor.browsers > 0 && <AskEverywhere />}
        <Button variant="plain" onClick={() => choose('ending')}>
          Switch it off
        </Button>
      </div>
      {factor.wanted && <p className="quiet mt-1 mb-0">The office wants one: who switches it off sets up another.</p>}
    </>
  );
}

interface WithCodeProps {
  act: 'new-codes' | 'ending';
  settled: (codes: string[] | null) => Promise<void>;
  cancel: () => void;
}

/** What takes a code, so that a browser that was left open is not enough. */
function WithCode({ act, settled, cancel }: WithCodeProps) {
  const form = useSchemaForm<FactorCode>(factorCodeSchema, { code: '' });
  const client = useQueryClient();
  const submit = form.handleSubmit(async (asked) => {
    try {
      if (act === 'new-codes') {
        const { codes } = await api<RecoveryCodes>('POST', '/api/session/factor/recovery-codes', asked);
        await settled(codes);
        return;
      }
      await api('DELETE', '/api/session/factor', asked);
      useNotices.getState().show('Your second factor is off. A notice was sent to you.');
      await settled(null);
      await client.invalidateQueries({ queryKey: ['me'] });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p className="mb-0">
        {act === 'ending' ? 'From then on your password alone opens.' : 'The codes that you have now become void.'}
      </p>
      <CodeField form={form} id="factor-code" />
      <FormFault form={form} />
      <div className="d-flex gap-2">
        <Button type="submit" disabled={form.formState.isSubmitting}>
          {act === 'ending' ? 'Switch it off' : 'Make new codes'}
        </Button>
        <Button variant="plain" onClick={cancel}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}

/** A code is asked for in every browser again. */
function AskEverywhere() {
  const client = useQueryClient();
  const ask = useMutation({
    mutationFn: () => api<SecondFactor>('DELETE', '/api/session/factor/browsers'),
    onSuccess: (factor) => {
      client.setQueryData(KEY, factor);
      useNotices.getState().show('A code is asked for in every browser again.');
    },
    onError: tellFailure,
  });
  return (
    <Button variant="plain" disabled={ask.isPending} onClick={() => ask.mutate()}>
      Ask for a code everywhere
    </Button>
  );
}
