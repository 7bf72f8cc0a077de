import {
  keepDirectorySchema,
  type Directory,
  type DirectorySettings,
  type DirectoryStep,
  type DirectoryTrial,
  type KeepDirectory,
} from '@quay/contract';
import {
  countOf,
  DIRECTORY_PRESETS,
  DIRECTORY_SCHEMAS,
  SCHEMA_WORDS,
  type DirectoryPreset,
  type DirectorySchema,
} from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import type { FieldPath, UseFormReturn } from 'react-hook-form';
import { api } from '../../../ui/api';
import { Field, FormFault, keepFocus, tellRefused, useSchemaForm } from '../../../ui/form';
import { useDirectoryVerbs } from './verbs';

const PORTS = { ldaps: 636, starttls: 389 } as const;
type List = 'nameAttributes' | 'emailAttributes' | 'signInAttributes' | 'alsoAttributes';

/** As it is typed: lists parted by commas, servers with their ports. */
interface Typed extends Record<List, string> {
  servers: string;
  encryption: DirectorySettings['encryption'];
  roots: string;
  bindDn: string;
  bindPassword: string;
  base: string;
  preset: DirectoryPreset;
  personFilter: string;
  groupFilter: string;
  idAttribute: string;
  groupNameAttributes: string;
  memberAttributes: string;
  memberOfAttribute: string;
  disabledAttribute: string;
  disabledBit: string;
  awayDays: string;
}
type ConnectionForm = UseFormReturn<Typed, unknown, KeepDirectory>;

const listOf = (text: string): string[] => text.split(/[\s,;]+/).filter(Boolean);

function typedSchema(schema: DirectorySchema): Pick<Typed, Exclude<keyof DirectorySchema, never>> {
  const { nameAttributes, emailAttributes, signInAttributes, alsoAttributes } = schema;
  return {
    ...schema,
    nameAttributes: nameAttributes.join(', '),
    emailAttributes: emailAttributes.join(', '),
    signInAttributes: signInAttributes.join(', '),
    alsoAttributes: alsoAttributes.join(', '),
    groupNameAttributes: schema.groupNameAttributes.join(', '),
    memberAttributes: schema.memberAttributes.join(', '),
    disabledBit: schema.disabledBit === null ? '' : String(schema.disabledBit),
  };
}

function typedOf(kept: DirectorySettings | null): Typed {
  const preset = kept?.preset ?? 'person';
  return {
    servers: (kept?.servers ?? []).map((s) => `${s.host}:${s.port}`).join(', '),
    encryption: kept?.encryption ?? 'ldaps',
    roots: kept?.roots ?? '',
    bindDn: kept?.bindDn ?? '',
    bindPassword: '',
    base: kept?.base ?? '',
    preset,
    ...typedSchema(kept?.schema ?? DIRECTORY_SCHEMAS[preset]),
    awayDays: String(kept?.awayDays ?? 0),
  };
}

function askedOf(typed: Typed, kept: DirectorySettings | null): KeepDirectory {
  return {
    servers: listOf(typed.servers).map((text) => serverOf(text, PORTS[typed.encryption])),
    ...{ encryption: typed.encryption, roots: typed.roots.trim() === '' ? '' : `${typed.roots.trim()}\n` },
    ...{ bindDn: typed.bindDn, bindPassword: typed.bindPassword === '' ? null : typed.bindPassword },
    ...{ base: typed.base, preset: typed.preset },
    schema: {
      ...{ personFilter: typed.personFilter, groupFilter: typed.groupFilter, idAttribute: typed.idAttribute },
      nameAttributes: listOf(typed.nameAttributes),
      emailAttributes: listOf(typed.emailAttributes),
      signInAttributes: listOf(typed.signInAttributes),
      alsoAttributes: listOf(typed.alsoAttributes),
      groupNameAttributes: listOf(typed.groupNameAttributes),
      memberAttributes: listOf(typed.memberAttributes),
      ...{ memberOfAttribute: typed.memberOfAttribute, disabledAttribute: typed.disabledAttribute },
      disabledBit: typed.disabledBit.trim() === '' ? null : Number(typed.disabledBit),
    },
    branches: kept?.branches ?? [],
    awayDays: Number(typed.awayDays),
  };
}

/** "host", "host:port", or an address of version 6 in brackets. */
function serverOf(text: string, otherwise: number): { host: string; port: number } {
  const found = /^\[?([^\]]+?)\]?(?::(\d{1,5}))?$/.exec(text);
  return { host: found?.[1] ?? text, port: Number(found?.[2] ?? otherwise) };
}

function fieldOf(path: string): FieldPath<Typed> {
  const [first = '', second = ''] = path.split('.');
  return (first === 'schema' ? second : first) as FieldPath<Typed>;
}

/** How the directory is asked: tried step by step before it is kept. */
export function Connection({ kept, close }: { kept: Directory; close: () => void }) {
  const { keep } = useDirectoryVerbs();
  const [trial, setTrial] = useState<DirectoryTrial | null>(null);
  const { settings } = kept;
  const form: ConnectionForm = useSchemaForm<Typed, KeepDirectory>(keepDirectorySchema, typedOf(settings), {
    ask: (typed) => askedOf(typed, settings),
    fieldOf,
  });
  const told = async (work: () => Promise<unknown>) => {
    try {
      await work();
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  };
  const attempt = form.handleSubmit((asked) =>
    told(async () => {
      setTrial(null);
      setTrial(await api<DirectoryTrial>('POST', '/api/directory/trial', asked));
    }),
  );
  const store = form.handleSubmit((asked) => told(() => keep.mutateAsync(asked).then(close)));
  const trust = (pem: string) => {
    form.setValue('roots', `${form.getValues('roots')}\n${pem}`.trim());
    void attempt();
  };
  const busy = form.formState.isSubmitting;
  return (
    <Form noValidate onSubmit={(e) => void store(e)} className="directory-connection">
      <Servers form={form} hasPassword={kept.hasPassword} />
      <Schema form={form} />
      <FormFault form={form} />
      {busy && !trial && <p role="status">Asking the directory.</p>}
      {trial && <Trial trial={trial} trust={trust} />}
      <div className="verbs">
        <Button variant={trial?.works ? 'plain' : 'primary'} disabled={busy} onClick={() => void attempt()}>
          Try it
        </Button>
        <Button type="submit" variant={trial?.works ? 'primary' : 'plain'} disabled={busy} onMouseDown={keepFocus}>
          Ask it like this
        </Button>
        <Button variant="plain" onClick={close}>
          Back
        </Button>
        {settings && <Forget kept={kept} done={close} />}
      </div>
    </Form>
  );
}

/** What that does is read before it is done: it cannot be taken back in one piece. */
function Forget({ kept, done }: { kept: Directory; done: () => void }) {
  const { forget } = useDirectoryVerbs();
  const [asking, setAsking] = useState(false);
  if (!asking)
    return (
      <Button variant="plain" onClick={() => setAsking(true)}>
        Ask it no more
      </Button>
    );
  return (
    <p className="directory-asks mb-0">
      {kept.people === 0
        ? 'Nobody comes from it.'
        : `${countOf(kept.people, 'person', 'people')} who sign in by it keep what they have, and need a password by a link.`}{' '}
      <Button
        size="sm"
        variant="outline-danger"
        disabled={forget.isPending}
        onClick={() => forget.mutate(undefined, { onSuccess: done })}
      >
        Ask it no more from now on
      </Button>
    </p>
  );
}

function Servers({ form, hasPassword }: { form: ConnectionForm; hasPassword: boolean }) {
  return (
    <fieldset>
      <div className="directory-pair">
        <Field
          {...{ form, name: 'servers', id: 'directory-servers', label: 'Servers, the first that answers is asked' }}
          placeholder="directory.saltmarsh.example"
        />
        <Form.Group controlId="directory-encryption">
          <Form.Label>Encryption</Form.Label>
          <Form.Select {...form.register('encryption')}>
            <option value="ldaps">LDAPS (port 636)</option>
            <option value="starttls">StartTLS (port 389)</option>
          </Form.Select>
        </Form.Group>
      </div>
      <div className="directory-pair">
        <Field
          {...{ form, name: 'bindDn', id: 'directory-bind', label: 'Read it as', autoComplete: 'off' }}
          placeholder="cn=quay,ou=Services,dc=saltmarsh,dc=example"
        />
        <Field
          {...{ form, name: 'bindPassword', id: 'directory-password', type: 'password', autoComplete: 'off' }}
          label={hasPassword ? 'Password (empty: as before, for the same servers)' : 'Password'}
        />
      </div>
      <div className="directory-pair">
        <Field
          {...{ form, name: 'base', id: 'directory-base', label: 'Base, under which all is looked for' }}
          placeholder="dc=saltmarsh,dc=example"
        />
        <Field
          {...{ form, name: 'awayDays', id: 'directory-away', type: 'number', min: 0, max: 30 }}
          label="While it is away, people sign in for so many days"
        />
      </div>
      <Field
        {...{ form, name: 'roots', id: 'directory-roots', as: 'textarea', rows: 2, spellCheck: false }}
        label="Authorities of its own, as PEM (empty: the usual ones)"
      />
    </fieldset>
  );
}

const FIELDS: [name: FieldPath<Typed>, label: string][] = [
  ['personFilter', 'People are'],
  ['groupFilter', 'Groups are'],
  ['idAttribute', 'What never changes of an entry'],
  ['nameAttributes', 'Name of a person'],
  ['emailAttributes', 'Mail address'],
  ['signInAttributes', 'Name to sign in by'],
  ['alsoAttributes', 'Other names to sign in by'],
  ['groupNameAttributes', 'Name of a group'],
  ['memberAttributes', 'Who is in a group'],
  ['memberOfAttribute', 'Which groups somebody is in'],
  ['disabledAttribute', 'Says that an account is disabled'],
  ['disabledBit', 'by this bit (empty: by being there)'],
];

function Schema({ form }: { form: ConnectionForm }) {
  const isOff = FIELDS.some(([name]) => form.getFieldState(name, form.formState).error);
  const take = (preset: DirectoryPreset) => {
    for (const [name, value] of Object.entries(typedSchema(DIRECTORY_SCHEMAS[preset])))
      form.setValue(name as FieldPath<Typed>, value as never);
  };
  return (
    <fieldset>
      <Form.Group controlId="directory-preset">
        <Form.Label>It speaks of people by</Form.Label>
        <Form.Select
          {...form.register('preset', {
            onChange: (e: { target: { value: DirectoryPreset } }) => take(e.target.value),
          })}
        >
          {DIRECTORY_PRESETS.map((preset) => (
            <option key={preset} value={preset}>
              {SCHEMA_WORDS[preset]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <details open={isOff}>
        <summary>Filters and attributes</summary>
        <div className="directory-pair">
          {FIELDS.map(([name, label]) => (
            <Field key={name} {...{ form, name, id: `directory-${name}`, label, size: 'sm', spellCheck: false }} />
          ))}
        </div>
      </details>
    </fieldset>
  );
}

const STEP_WORDS: Record<DirectoryStep['step'], string> = {
  resolve: 'Name',
  connect: 'Connection',
  certificate: 'Encryption',
  bind: 'Sign-in',
  base: 'Base',
  entries: 'Entries',
};
const OUTCOME_WORDS = { ok: 'works', failed: 'does not work', skipped: 'not tried' } as const;
const MARKS = { ok: '✓', failed: '✗', skipped: '·' } as const;

/** What each step showed. */
function Trial({ trial, trust }: { trial: DirectoryTrial; trust: (pem: string) => void }) {
  const { authority } = trial;
  const several = new Set(trial.steps.map((s) => s.server).filter(Boolean)).size > 1;
  return (
    <div className="directory-trial" role="status">
      <ol aria-label="What each step showed">
        {trial.steps.map((step) => (
          <li key={`${step.server} ${step.step}`} className={step.outcome}>
            <span aria-hidden className="sign">
              {MARKS[step.outcome]}
            </span>
            <span className="step">
              {STEP_WORDS[step.step]}
              {several && step.server && <span className="quiet"> {step.server}</span>}
              <span className="visually-hidden"> {OUTCOME_WORDS[step.outcome]}</span>
            </span>
            <span>
              {step.words} {step.remedy && <strong>{step.remedy}</strong>}
            </span>
          </li>
        ))}
      </ol>
      {authority && (
        <p className="directory-authority">
          It shows the authority <strong>{authority.subject}</strong>. Compare its SHA-256 fingerprint with whoever runs
          the directory: <code>{authority.fingerprint}</code>{' '}
          <Button size="sm" variant="plain" onClick={() => trust(authority.pem)}>
            It is the same: trust it
          </Button>
        </p>
      )}
    </div>
  );
}
