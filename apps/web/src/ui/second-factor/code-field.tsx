import type { FieldPath, FieldValues, UseFormReturn } from 'react-hook-form';
import { Field } from '../form';

interface Props<V extends FieldValues, A> {
  form: UseFormReturn<V, unknown, A>;
  id: string;
  /** Only the new authenticator will do, no code for recovery. */
  onlyCode?: boolean;
}

/** Where a code of a second factor is typed; the form calls it `code`. */
export function CodeField<V extends FieldValues & { code: string }, A>({ form, id, onlyCode }: Props<V, A>) {
  const label = onlyCode
    ? 'The six digits that it shows now'
    : 'The six digits that your authenticator shows, or a recovery code';
  return (
    <Field
      {...{ form, id, label, name: 'code' as FieldPath<V>, autoFocus: true, required: true }}
      autoComplete="one-time-code"
      inputMode={onlyCode ? 'numeric' : undefined}
      maxLength={40}
      className="mono"
    />
  );
}
