import { Form } from 'react-bootstrap';
import { ApiProblem } from '../api';

interface SameWayProps {
  error: Error | null;
  meant: boolean;
  set: (meant: boolean) => void;
}

/** What the server said; that link and password would go the same way can be meant. */
export function SameWay({ error, meant, set }: SameWayProps) {
  const problem = error instanceof ApiProblem ? error : null;
  const isSameWay = problem?.code === 'hand-over.same-way';
  const atField = problem?.body.errors?.some(({ field }) => /^(to|subject|text)\b/.test(field)) ?? false;
  return (
    <>
      {error && !atField && (
        <p className="field-fault mb-0" role="alert">
          {problem?.body.errors?.[0]?.detail ?? error.message}
        </p>
      )}
      {(isSameWay || meant) && (
        <Form.Check
          id="same-way-meant"
          label="I mean it; it is written down"
          checked={meant}
          onChange={(e) => set(e.target.checked)}
        />
      )}
    </>
  );
}
