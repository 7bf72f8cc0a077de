import type { KnownAddressee } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useId } from 'react';
import { Form } from 'react-bootstrap';
import { api } from '../api';
import { tellFailure, useNotices } from '../notices';
import { addresseesQuery, addresseeText, useAddressees } from './queries';

const MOST_SUGGESTED = 6;

interface ToFieldProps {
  id: string;
  kind: 'address' | 'number';
  value: string;
  set: (value: string) => void;
  /** What the server said of it. */
  fault: string | undefined;
}

/** To whom it goes: typed, pasted, or of those whom somebody wrote to before. */
export function ToField({ id, kind, value, set, fault }: ToFieldProps) {
  const says = useId();
  const read = useAddressees(value, kind);
  const wrong = fault ?? faultOf(read?.faults);
  return (
    <Form.Group controlId={id}>
      <Form.Label className="small mb-0">To</Form.Label>
      <Form.Control
        as="textarea"
        rows={2}
        value={value}
        autoFocus
        placeholder={kind === 'address' ? 'lena@mill.example, ash@quarry.example' : '+44 7700 900123'}
        isInvalid={wrong !== undefined}
        aria-describedby={says}
        onChange={(e) => set(e.target.value)}
      />
      <div id={says}>{wrong && <div className="field-fault">{wrong}</div>}</div>
      <Earlier kind={kind} value={value} set={set} />
    </Form.Group>
  );
}

function faultOf(faults: readonly { text: string; words: string }[] = []): string | undefined {
  const [first] = faults;
  return first && `“${first.text}” ${first.words}.`;
}

/** Whom somebody wrote to before, as far as it fits what is being typed. */
function Earlier({ kind, value, set }: Pick<ToFieldProps, 'kind' | 'value' | 'set'>) {
  const client = useQueryClient();
  const { data = [] } = useQuery(addresseesQuery);
  const typed =
    value
      .split(/[,;\n]/)
      .at(-1)
      ?.trim()
      .toLowerCase() ?? '';
  const fits = data
    .filter(({ value: to }) => to.includes('@') === (kind === 'address') && !value.includes(to))
    .filter((known) => `${known.name} ${known.value}`.toLowerCase().includes(typed))
    .slice(0, MOST_SUGGESTED);
  if (fits.length === 0) return null;
  const take = (known: KnownAddressee) => {
    const before = value.slice(0, value.length - (value.split(/[,;\n]/).at(-1)?.length ?? 0));
    set(`${before}${before.trim() === '' ? '' : ' '}${addresseeText(known)}, `);
  };
  const forget = async ({ value: recipient }: KnownAddressee) => {
    client.setQueryData(
      addresseesQuery.queryKey,
      await api<KnownAddressee[]>('POST', '/api/hand-overs/recipients/forget', { recipient }),
    );
    useNotices
      .getState()
      .show(`${recipient} is suggested no more. Shares and the ledger keep what went there: their lines stay.`);
  };
  return (
    <ul className="earlier" aria-label="Whom you wrote to before">
      {fits.map((known) => (
        <li key={known.value}>
          <button type="button" className="btn btn-choice" onClick={() => take(known)}>
            {known.name || known.value}
            {known.name && <span className="quiet"> {known.value}</span>}
          </button>
          <button
            type="button"
            className="btn btn-choice"
            aria-label={`Forget ${known.value}`}
            title="Forget"
            onClick={() => void forget(known).catch(tellFailure)}
          >
            <i className="bi bi-x" aria-hidden />
          </button>
        </li>
      ))}
    </ul>
  );
}
