import { useWatch, type FieldPath, type FieldValues, type UseFormReturn } from 'react-hook-form';
import { Field } from './form';
import { timeThere } from './time-there';

const ZONES = Intl.supportedValuesOf('timeZone');

/** A time zone, with what its clock shows now. */
export function ZoneField<V extends FieldValues & { zone: string }, A>(props: {
  form: UseFormReturn<V, unknown, A>;
  id: string;
}) {
  const { form, id } = props;
  const name = 'zone' as FieldPath<V>;
  const there = timeThere(useWatch({ control: form.control, name }) as string);
  return (
    <>
      <Field {...{ form, name, id, list: `${id}-list` }} label="Time zone" required autoComplete="off" />
      <datalist id={`${id}-list`}>
        {ZONES.map((zone) => (
          <option key={zone} value={zone} />
        ))}
      </datalist>
      {there && <p className="quiet mb-0">It is {there} there now.</p>}
    </>
  );
}
