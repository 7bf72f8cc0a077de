import {
  keepProviderSchema,
  type KeepProvider,
  type People,
  type Provider,
  type ProviderSettings,
  type ProviderTrial,
} from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import type { FieldPath, UseFormReturn } from 'react-hook-form';
import { api } from '../../ui/api';
import { grantableQuery } from '../../ui/access/queries';
import { CopyLine } from '../../ui/copy';
import { Field, FormFault, keepFocus, tellRefused, useSchemaForm } from '../../ui/form';
import { useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { providerQuery } from './queries';

/** How people sign in by the identity provider of the office. */
export function ProviderSettingsForm() {
  const { data, error, refetch } = useQuery(providerQuery);
  const { data: grantable } = useQuery(grantableQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data || !grantable) return <SkeletonRows count={5} />;
  return <ProviderForm key={JSON.stringify(data.settings)} kept={data} groups={grantable.groups} />;
}

type Groups = Pick<People['groups'][number], 'id' | 'name'>[];

interface Typed {
  name: string;
  issuer: string;
  clientId: string;
  clientSecret: string;
  origin: string;
  makesAccounts: boolean;
  domains: string;
  groupsClaim: string;
  groups: string;
}

function typedOf(kept: ProviderSettings | null, groups: Groups): Typed {
  const nameOf = (id: string) => groups.find((g) => g.id === id)?.name;
  const lines = (kept?.groups ?? []).map(({ claim, groupId }) => [claim, nameOf(groupId)] as const);
  return {
    ...{ name: kept?.name ?? '', issuer: kept?.issuer ?? '', clientId: kept?.clientId ?? '', clientSecret: '' },
    ...{ origin: kept?.origin ?? window.location.origin, makesAccounts: kept?.makesAccounts ?? false },
    ...{ domains: (kept?.domains ?? []).join(', '), groupsClaim: kept?.groupsClaim ?? '' },
    groups: lines.flatMap(([claim, name]) => (name ? [`${claim} = ${name}`] : [])).join('\n'),
  };
}

const linesOf = (text: string): { claim: string; name: string }[] =>
  text
    .split('\n')
    .filter((line) => line.trim() !== '')
    .map((line) => {
      const at = line.lastIndexOf('=');
      return { claim: line.slice(0, Math.max(0, at)).trim(), name: line.slice(at + 1).trim() };
    });

function askedOf({ groups: typed, ...rest }: Typed, groups: Groups): KeepProvider {
  return {
    ...rest,
    clientSecret: rest.clientSecret === '' ? null : rest.clientSecret,
    domains: rest.domains.split(/[\s,;]+/).filter(Boolean),
    groups: linesOf(typed).map(({ claim, name }) => ({
      claim,
      groupId: groups.find((g) => g.name === name)?.id ?? '',
    })),
  };
}

/** A line that names no group of here. */
function groupsFault({ groups: typed }: Typed, groups: Groups): string | null {
  const wrong = linesOf(typed).find(({ claim, name }) => claim === '' || !groups.some((g) => g.name === name));
  if (!wrong) return null;
  return wrong.claim === ''
    ? 'Each line is: group there = group here.'
    : `There is no group called ${wrong.name} here.`;
}

function ProviderForm({ kept, groups }: { kept: Provider; groups: Groups }) {
  const client = useQueryClient();
  const [trial, setTrial] = useState<ProviderTrial | null>(null);
  const fieldOf = (path: string) => path.split('.')[0] as FieldPath<Typed>;
  const form = useSchemaForm<Typed, KeepProvider>(keepProviderSchema, typedOf(kept.settings, groups), {
    ask: (typed) => askedOf(typed, groups),
    faults: (typed) => ({ groups: groupsFault(typed, groups) }),
    fieldOf,
  });
  const told = async (work: () => Promise<unknown>) => {
    try {
      await work();
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  };
  const show = (state: Provider, words: string) => {
    client.setQueryData(providerQuery.queryKey, state);
    useNotices.getState().show(words);
  };
  const keep = form.handleSubmit((asked) =>
    told(async () => show(await api('PUT', '/api/settings/provider', asked), 'It is offered where people sign in.')),
  );
  const attempt = form.handleSubmit((asked) =>
    told(async () => {
      setTrial(null);
      setTrial(await api<ProviderTrial>('POST', '/api/settings/provider/trial', asked));
    }),
  );
  const without = () =>
    told(async () =>
      show(await api('DELETE', '/api/settings/provider'), 'People sign in by a password, or a passkey.'),
    );
  const busy = form.formState.isSubmitting;
  return (
    <Form noValidate onSubmit={(e) => void keep(e)} className="d-grid gap-2">
      <p className="mb-0">
        {kept.settings
          ? kept.people === 0
            ? `Nobody has signed in by ${kept.settings.name} yet.`
            : `${countOf(kept.people, 'person', 'people')} signed in by ${kept.settings.name} so far.`
          : 'Staff can sign in by an identity provider (OpenID Connect). Admins and guests keep a password here.'}
      </p>
      {kept.callback && (
        <div>
          <p className="mb-1">It has to send people back to this address:</p>
          <CopyLine label="Where it is to send people back" value={kept.callback} />
        </div>
      )}
      <Fields form={form} hadSecret={kept.settings !== null} />
      <FormFault form={form} />
      {trial && (
        <p role="status" className={trial.works ? 'mail-sent' : 'mail-refused'}>
          {trial.words}
        </p>
      )}
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={busy} onMouseDown={keepFocus}>
          Offer it
        </Button>
        <Button variant="plain" disabled={busy} onClick={() => void attempt()}>
          Try it
        </Button>
        {kept.settings && (
          <Button variant="plain" disabled={busy} onClick={() => void without()}>
            Offer it no more
          </Button>
        )}
      </div>
    </Form>
  );
}

function Fields({ form, hadSecret }: { form: UseFormReturn<Typed, unknown, KeepProvider>; hadSecret: boolean }) {
  return (
    <>
      <Field {...{ form, name: 'name', id: 'provider-name', maxLength: 40 }} label="What it is called on the button" />
      <Field
        {...{ form, name: 'issuer', id: 'provider-issuer' }}
        label="Issuer"
        placeholder="https://id.saltmarsh.example"
      />
      <Field {...{ form, name: 'clientId', id: 'provider-client', autoComplete: 'off' }} label="Client id" />
      <Field
        {...{ form, name: 'clientSecret', id: 'provider-secret', type: 'password', autoComplete: 'off' }}
        label={hadSecret ? 'Client secret (empty: as before)' : 'Client secret'}
      />
      <Field {...{ form, name: 'origin', id: 'provider-origin' }} label="Address at which people sign in here" />
      <Form.Check
        type="switch"
        id="provider-makes"
        label="Whoever has no account yet gets one"
        {...form.register('makesAccounts')}
      />
      {form.watch('makesAccounts') && (
        <Field
          {...{ form, name: 'domains', id: 'provider-domains' }}
          label="at a mail address of these domains"
          placeholder="saltmarsh.example"
        />
      )}
      <Field
        {...{ form, name: 'groupsClaim', id: 'provider-claim' }}
        label="Claim that names groups (empty: none)"
        placeholder="groups"
      />
      <Field
        {...{ form, name: 'groups', id: 'provider-groups', as: 'textarea', rows: 3 }}
        label="Its groups, and which they are here: one on each line"
        placeholder="crew = Site crew"
      />
    </>
  );
}
