import {
  beginFactorSchema,
  factorCodeSchema,
  type BeginFactor,
  type FactorBegun,
  type FactorCode,
  type RecoveryCodes,
} from '@quay/contract';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../api';
import { CopyLine } from '../copy';
import { Field, FormFault, tellRefused, useSchemaForm } from '../form';
import { QrCode } from '../qr';
import { CodeField } from './code-field';

interface Props {
  done: (codes: string[]) => void;
  cancel?: () => void;
}

/** Two steps: the password, which draws a secret, and a first code of the authenticator that was told it. */
export function SetUp({ done, cancel }: Props) {
  const [begun, setBegun] = useState<FactorBegun | null>(null);
  return (
    <>
      {begun ? <FirstCode begun={begun} done={done} /> : <Begin begun={setBegun} />}
      {cancel && (
        <button type="button" className="link mt-2" onClick={cancel}>
          Not now
        </button>
      )}
    </>
  );
}

function Begin({ begun }: { begun: (told: FactorBegun) => void }) {
  const form = useSchemaForm<BeginFactor>(beginFactorSchema, { password: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      begun(await api<FactorBegun>('POST', '/api/session/factor', asked));
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <Field
        {...{ form, name: 'password', id: 'factor-password', label: 'Your password' }}
        {...{ type: 'password', required: true, autoComplete: 'current-password', autoFocus: true }}
      />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Go on
        </Button>
      </div>
    </Form>
  );
}

function FirstCode({ begun, done }: { begun: FactorBegun; done: (codes: string[]) => void }) {
  const form = useSchemaForm<FactorCode>(factorCodeSchema, { code: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      done((await api<RecoveryCodes>('POST', '/api/session/factor/first-code', asked)).codes);
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <p className="mb-0">Point an authenticator at this picture, or type the secret into it. Any will do.</p>
      <QrCode text={begun.uri} label="What your authenticator reads" />
      <CopyLine value={begun.secret} label="secret" />
      <CodeField form={form} id="factor-code" onlyCode />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          Switch it on
        </Button>
      </div>
    </Form>
  );
}
