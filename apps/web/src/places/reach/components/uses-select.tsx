import type { AddressUses } from '@quay/contract';
import { Form } from 'react-bootstrap';
import { USES_WORDS } from '../words';

/** What an address may be used for. */
export function UsesSelect({ uses, choose }: { uses: AddressUses; choose: (uses: AddressUses) => void }) {
  return (
    <Form.Group controlId="address-uses">
      <Form.Label>May be used for</Form.Label>
      <Form.Select className="w-auto" value={uses} onChange={(e) => choose(e.target.value as AddressUses)}>
        {(Object.keys(USES_WORDS) as AddressUses[]).map((u) => (
          <option key={u} value={u}>
            {USES_WORDS[u]}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}
