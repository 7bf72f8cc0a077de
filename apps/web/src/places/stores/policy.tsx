import { changePolicySchema, type PolicyEffect, type StorePolicyText, type StoreUsage } from '@quay/contract';
import {
  countOf,
  DAYS_RANGE,
  formatSize,
  GIGABYTES_RANGE,
  typedNumber,
  VERSIONS_KEPT_DEFAULT,
  VERSIONS_KEPT_RANGE,
} from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import type { UseFormReturn } from 'react-hook-form';
import { FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { bytesOf, gigabytesField } from './gigabytes';
import { effectQuery } from './queries';
import { useChangePolicy } from './verbs';
import './policy.scss';

/** What is typed: numbers as text, empty for none. */
interface Typed {
  quota: string;
  largest: string;
  types: string;
  kept: string;
  thin: string;
  trash: string;
}
type Asked = Partial<StorePolicyText>;
type PolicyForm = UseFormReturn<Typed, unknown, Asked>;

const RULES: { name: keyof Typed; of: keyof StorePolicyText; label: string; unit: string; hint: string }[] = [
  { name: 'quota', of: 'quotaBytes', label: 'Quota', unit: 'GB', hint: 'none' },
  { name: 'largest', of: 'largestFileBytes', label: 'Largest file', unit: 'GB', hint: 'any' },
  { name: 'types', of: 'allowedTypes', label: 'Types', unit: '', hint: 'all; or: pdf dxf csv' },
  { name: 'kept', of: 'versionsKept', label: 'Versions kept', unit: 'of each file', hint: '32' },
  { name: 'thin', of: 'thinAfterDays', label: 'One a week after', unit: 'days', hint: 'never' },
  { name: 'trash', of: 'trashDays', label: 'Trash kept', unit: 'days', hint: 'for ever' },
];
const fieldOf = (path: string): keyof Typed => RULES.find((r) => path.split('.')[0] === r.of)?.name ?? 'types';

const readNumbers = (typed: Typed) => ({
  quota: typedNumber(typed.quota, GIGABYTES_RANGE),
  largest: typedNumber(typed.largest, GIGABYTES_RANGE),
  kept: typedNumber(typed.kept, VERSIONS_KEPT_RANGE),
  thin: typedNumber(typed.thin, DAYS_RANGE),
  trash: typedNumber(typed.trash, DAYS_RANGE),
});

/** The rules of a store, and what they would remove today before they are saved. The quota is the admin's to give. */
export function Policy({ usage, admin }: { usage: StoreUsage; admin: boolean }) {
  const { policy, store } = usage;
  const changePolicy = useChangePolicy();
  const form: PolicyForm = useSchemaForm<Typed, Asked>(
    changePolicySchema,
    typedOf(policy),
    {
      ask: (typed) => askedOf(typed, admin),
      faults: (typed) =>
        Object.fromEntries(Object.entries(readNumbers(typed)).map(([name, { fault }]) => [name, fault])),
      fieldOf,
    },
    'onChange',
  );
  const { kept, thin } = readNumbers(form.watch());
  const sound = Object.values(readNumbers(form.watch())).every((n) => n.fault === null);
  const keptValue = kept.value ?? VERSIONS_KEPT_DEFAULT;
  const { data: effect } = useQuery({ ...effectQuery(store.id, keptValue, thin.value), enabled: sound });
  const submit = form.handleSubmit((change) =>
    changePolicy
      .mutateAsync({ storeId: store.id, change })
      .catch((error: unknown) => tellRefused(form, error, fieldOf)),
  );
  return (
    <Form className="rules" noValidate onSubmit={(e) => void submit(e)}>
      <h2 className="small-head">Rules</h2>
      {RULES.filter((r) => r.name !== 'quota' || admin).map((rule) => (
        <RuleLine key={rule.name} form={form} rule={rule} />
      ))}
      {sound && effect && <Effect effect={effect} />}
      <FormFault form={form} />
      <Button type="submit" disabled={!sound || changePolicy.isPending}>
        Save the rules
      </Button>
    </Form>
  );
}

function RuleLine({ form, rule }: { form: PolicyForm; rule: (typeof RULES)[number] }) {
  const { name, label, unit, hint } = rule;
  const { error } = form.getFieldState(name, form.formState);
  return (
    <div className="rule-line">
      <Form.Label htmlFor={`rule-${name}`}>{label}</Form.Label>
      <Form.Control
        id={`rule-${name}`}
        size="sm"
        className={name === 'types' ? 'wide' : ''}
        isInvalid={Boolean(error)}
        placeholder={hint}
        {...form.register(name)}
      />
      <span className="quiet">{unit}</span>
      {error && <span className="field-fault">{error.message}</span>}
    </div>
  );
}

function Effect({ effect }: { effect: PolicyEffect }) {
  if (effect.versions === 0) return <p className="rule-effect">These rules would remove no version today.</p>;
  const shown = effect.examples.slice(0, 3).map((e) => `${e.name} v${e.number}`);
  return (
    <p className="rule-effect some">
      These rules would remove {countOf(effect.versions, 'version')} ({formatSize(effect.bytes)}): {shown.join(', ')}
      {effect.versions > 3 && ' ...'}
    </p>
  );
}

function typedOf(policy: StorePolicyText): Typed {
  return {
    quota: gigabytesField(policy.quotaBytes),
    largest: gigabytesField(policy.largestFileBytes),
    types: policy.allowedTypes.join(' '),
    kept: String(policy.versionsKept),
    thin: String(policy.thinAfterDays ?? ''),
    trash: String(policy.trashDays ?? ''),
  };
}

function askedOf(typed: Typed, admin: boolean): Asked {
  const { quota, largest, kept, thin, trash } = readNumbers(typed);
  return {
    ...(admin && { quotaBytes: bytesOf(quota.value) }),
    largestFileBytes: bytesOf(largest.value),
    allowedTypes: typed.types
      .toLowerCase()
      .split(/[\s,.;]+/)
      .filter(Boolean),
    versionsKept: kept.value ?? VERSIONS_KEPT_DEFAULT,
    thinAfterDays: thin.value,
    trashDays: trash.value,
  };
}
