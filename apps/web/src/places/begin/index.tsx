import {
  SETUP_STEPS,
  setupCodeSchema,
  type SetupCode,
  type SetupState,
  type SetupStanding,
  type SetupStep,
} from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Navigate } from 'react-router';
import { api, ApiProblem } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { useSearch } from '../../ui/search';
import { Failure, SkeletonRows } from '../../ui/states';
import { Finish } from './finish';
import './index.scss';
import { STEPS } from './steps';

const KEY = ['setup'] as const;
const query = { queryKey: KEY, queryFn: () => api<SetupStanding>('GET', '/api/setup') };

/** The first start: whoever has the machine makes an office of it, step by step. */
export function Begin() {
  const { data, error, isPending, refetch } = useQuery(query);
  useEffect(() => {
    document.title = 'Begin: Lockfast Quay';
  }, []);
  // Once there is an office, nothing of this is there any more.
  if (error instanceof ApiProblem && error.status === 404) return <Navigate to="/today" replace />;
  return (
    <main className="begin">
      <header>
        <h1>Begin</h1>
        {data && (
          <p className="quiet">
            Lockfast Quay on <span className="mono">{data.held ? data.state.machine : data.machine}</span>
          </p>
        )}
      </header>
      {isPending && <SkeletonRows count={6} />}
      {error && <Failure error={error} again={() => void refetch()} />}
      {data && !data.held && <TypeCode />}
      {data?.held && <Steps state={data.state} />}
    </main>
  );
}

function TypeCode() {
  const client = useQueryClient();
  const [printed, setPrinted] = useState(false);
  const form = useSchemaForm<SetupCode>(setupCodeSchema, { code: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await api('POST', '/api/setup/code', asked);
      await client.invalidateQueries({ queryKey: KEY });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  const again = async () => {
    try {
      await api('POST', '/api/setup/code/new');
      setPrinted(true);
    } catch (error) {
      tellRefused(form, error);
    }
  };
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="begin-step d-grid gap-2">
      <p className="mb-1">
        This server has no office yet. To show that the machine is yours, type the code that was printed where the
        server was started. It is in the file <span className="mono">first-start-code</span> beside its data, too.
      </p>
      <Field
        {...{ form, name: 'code', id: 'code' }}
        label="Code"
        placeholder="K7QM-2XWP"
        autoFocus
        autoComplete="off"
        required
      />
      <FormFault form={form} />
      {printed && <p role="status">The code has been printed again. It may be another one.</p>}
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Begin
        </Button>
        <Button variant="plain" onClick={() => void again()}>
          Print the code again
        </Button>
      </div>
    </Form>
  );
}

function Steps({ state }: { state: SetupState }) {
  const client = useQueryClient();
  const [params, change] = useSearch();
  const next = SETUP_STEPS.find((step) => state.answers[step] === undefined) ?? null;
  const asked = SETUP_STEPS.find((step) => step === params.get('step'));
  const open = asked && (state.answers[asked] !== undefined || asked === next) ? asked : next;
  const show = (step: SetupStep | null) => change({ step }, { replace: step === null });
  const done = (answered: SetupState) => {
    client.setQueryData(KEY, { held: true, state: answered } satisfies SetupStanding);
    show(null);
  };
  return (
    <>
      <p className="quiet">Six steps, about ten minutes. Each is kept as it is done; leave and come back.</p>
      <ol className="begin-steps">
        {SETUP_STEPS.map((step, i) => {
          const { title, later, Form: StepForm, summary } = STEPS[step];
          const isDone = state.answers[step] !== undefined;
          if (step === open)
            return (
              <li key={step} className="begin-step" aria-current="step">
                <span className="begin-number">{i + 1}</span>
                <div>
                  <h2>{title}</h2>
                  <StepForm state={state} done={done} />
                </div>
              </li>
            );
          return (
            <li key={step}>
              <span className={isDone ? 'begin-done' : 'begin-number quiet'}>
                {isDone ? <i className="bi bi-check-lg" role="img" aria-label="Done" /> : i + 1}
              </span>
              <p>
                <strong>{title}</strong> <span className="quiet">{isDone ? summary(state) : later}</span>
              </p>
              {isDone && (
                <button type="button" className="link" aria-label={`Change: ${title}`} onClick={() => show(step)}>
                  change
                </button>
              )}
            </li>
          );
        })}
      </ol>
      {open === null && <Finish state={state} />}
    </>
  );
}
