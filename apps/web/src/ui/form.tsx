import { joiResolver } from '@hookform/resolvers/joi';
import { sentenceOf } from '@quay/contract';
import type Joi from 'joi';
import type { FormEvent, ReactNode } from 'react';
import { Form, type FormControlProps } from 'react-bootstrap';
import {
  useForm,
  type DefaultValues,
  type FieldPath,
  type FieldValues,
  type Resolver,
  type UseFormReturn,
} from 'react-hook-form';
import { ApiProblem } from './api';

/** What is wrong with fields, by their names. */
export type Faults<V extends FieldValues> = Partial<Record<FieldPath<V>, string | null>>;

export interface Meant<V extends FieldValues, A> {
  /** What is typed, as it is asked of the server. */
  ask: (values: V) => A;
  /** What cannot be read at all: numbers that are none. Judged before the schema. */
  faults?: (values: V) => Faults<V>;
  /** The field that a fault of the request stands at, where their names differ. */
  fieldOf?: (path: string) => FieldPath<V> | 'root.refused';
}

/**
 * A form whose values are judged by the contract's own schema, as the server will judge them.
 * @param meant how values become the request; left out: they are the request
 */
export function useSchemaForm<V extends FieldValues, A extends FieldValues = V>(
  schema: Joi.ObjectSchema<A>,
  initial: DefaultValues<V>,
  meant?: Meant<V, A>,
  /** `onChange`: judged with each key, for a field whose rules surprise. */
  mode: 'onTouched' | 'onChange' = 'onTouched',
): UseFormReturn<V, unknown, A> {
  return useForm<V, unknown, A>({
    defaultValues: initial,
    resolver: resolverOf(schema, meant),
    mode,
  });
}

/**
 * A form for what is typed in once and kept: empty again when it was taken, and what was refused is said at its fields.
 */
export function useKeptForm<V extends FieldValues>(
  schema: Joi.ObjectSchema<V>,
  initial: DefaultValues<V>,
  keep: (asked: V) => Promise<unknown>,
): { form: UseFormReturn<V, unknown, V>; submit: (event: FormEvent) => void } {
  const form = useSchemaForm<V>(schema, initial);
  const submit = form.handleSubmit(async (asked) => {
    try {
      await keep(asked);
      form.reset();
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return { form, submit: (event) => void submit(event) };
}

/** What belongs to no field is told of the form as a whole, where {@link FormFault} finds it. */
const told = <F,>(field: string, found: F): [string, F | { refused: F }] =>
  field === 'root.refused' ? ['root', { refused: found }] : [field, found];

/** Exported for its test. */
export function resolverOf<V extends FieldValues, A extends FieldValues>(
  schema: Joi.ObjectSchema<A>,
  meant?: Meant<V, A>,
): Resolver<V, unknown, A> {
  const judge = joiResolver(schema, { abortEarly: false, errors: { wrap: { label: false } } });
  return async (values, context, options) => {
    const unread = Object.entries(meant?.faults?.(values) ?? {}).filter(([, words]) => Boolean(words));
    const asked = meant ? meant.ask(values) : (values as unknown as A);
    // Fields of the request are not those of the form, so nothing is told to elements here.
    const judged = await judge(asked as never, context, { ...options, fields: {}, shouldUseNativeValidation: false });
    const errors = Object.fromEntries([
      ...faultsIn(judged.errors).map(([path, words]) => told(meant?.fieldOf?.(path) ?? path, fault(words))),
      ...unread.map(([name, words]) => [name, fault(String(words))]),
    ]) as Record<string, { type: string; message: string }>;
    return Object.keys(errors).length > 0
      ? { values: {}, errors: errors as never }
      : { values: judged.values as A, errors: {} };
  };
}

const fault = (message: string) => ({ type: 'judged', message });

/** Errors lie in each other as the request does; here each has its path. */
function faultsIn(errors: object, above = ''): [path: string, words: string][] {
  return Object.entries(errors).flatMap(([name, inner]: [string, unknown]) => {
    if (typeof inner !== 'object' || inner === null) return [];
    const path = above ? `${above}.${name}` : name;
    return 'message' in inner && typeof inner.message === 'string'
      ? [[path, wordsOf(inner.message)] as [string, string]]
      : faultsIn(inner, path);
  });
}

/** What a schema says by itself, in words for whoever is in a hurry. */
export const wordsOf = (text: string): string =>
  / is not allowed to be empty$/.test(text) ? 'This is needed.' : sentenceOf(text);

/** Tells what the server refused: at the fields that it names, and of the whole form where it names none. */
export function tellRefused<V extends FieldValues, A>(
  form: UseFormReturn<V, unknown, A>,
  error: unknown,
  fieldOf?: (path: string) => FieldPath<V> | 'root.refused',
): void {
  const named = error instanceof ApiProblem ? (error.body.errors ?? []) : [];
  for (const { field, detail } of named)
    form.setError(fieldOf?.(field) ?? (field as FieldPath<V>), { type: 'refused', message: detail });
  const words = error instanceof Error ? error.message : 'That did not work.';
  if (named.length === 0) form.setError('root.refused', { type: 'refused', message: words });
}

/**
 * For a button beside fields: a field that is left is judged, and what is then said of it would move the button away
 * from under the pointer before it is let go.
 */
export const keepFocus = (event: { preventDefault: () => void }): void => event.preventDefault();

/** What was refused of the form as a whole. */
export function FormFault({ form }: { form: { formState: { errors: { root?: Record<string, unknown> } } } }) {
  const refused = form.formState.errors.root?.['refused'] as { message?: string } | undefined;
  if (!refused?.message) return null;
  return (
    <p className="field-fault mb-1" role="alert">
      {refused.message}
    </p>
  );
}

type FieldProps<V extends FieldValues, A> = Omit<FormControlProps, 'name' | 'form'> & {
  form: UseFormReturn<V, unknown, A>;
  name: FieldPath<V>;
  id: string;
  label: ReactNode;
  /** For a field whose purpose is plain from where it stands: the label is only read out. */
  hiddenLabel?: boolean;
  rows?: number;
  required?: boolean;
  autoComplete?: string;
  maxLength?: number;
  labelClass?: string;
};

/** A field with its label, and what is wrong with it under it. */
export function Field<V extends FieldValues, A>(props: FieldProps<V, A>) {
  const { form, name, id, label, hiddenLabel, labelClass, ...control } = props;
  const error = form.getFieldState(name, form.formState).error;
  return (
    <Form.Group controlId={id}>
      <Form.Label visuallyHidden={hiddenLabel} className={labelClass}>
        {label}
      </Form.Label>
      <Form.Control
        {...control}
        {...form.register(name)}
        isInvalid={Boolean(error)}
        aria-describedby={error ? `${id}-fault` : undefined}
      />
      {error && (
        <div className="field-fault" id={`${id}-fault`} role="alert">
          {error.message}
        </div>
      )}
    </Form.Group>
  );
}
