import { HAND_OVERS, type HandOver } from '@quay/contract';
import { Form } from 'react-bootstrap';
import type { UseFormRegisterReturn } from 'react-hook-form';

const WORDS: Record<HandOver, string> = {
  mail: 'A link, which goes to them by mail',
  link: 'A link, which I give them',
  password: 'A password, which I tell them and they change',
};

/** How somebody who gets an account gets in. */
export function HandOverChoice({ id, field }: { id: string; field: UseFormRegisterReturn }) {
  return (
    <Form.Group controlId={id}>
      <Form.Label>They begin with</Form.Label>
      <Form.Select {...field}>
        {HAND_OVERS.map((by) => (
          <option key={by} value={by}>
            {WORDS[by]}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}
