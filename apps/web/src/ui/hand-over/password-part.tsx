import { readBack, telephoneSpelling } from '@quay/core';
import { useState } from 'react';
import { Form } from 'react-bootstrap';
import { CopyLine } from '../copy';

/** A password that was set just now: to be copied, read out, and read back. */
export function PasswordPart({ password }: { password: string }) {
  const [heard, setHeard] = useState('');
  const { right, done, wrong } = readBack(password, heard);
  const signs = [...password];
  const spelling = telephoneSpelling(password);
  const said = done
    ? 'The same: they have it.'
    : wrong
      ? `Not the same from sign ${right + 1} on: there it is “${signs.filter((s) => s.trim() !== '')[right] ?? 'nothing more'}”.`
      : heard === ''
        ? ''
        : `The same so far, ${right} of ${signs.length} signs.`;
  return (
    <section>
      <h3>The password, by another channel</h3>
      <CopyLine value={password} label="password" />
      <p className="quiet small mt-1 mb-1">On the telephone: {spelling.join(', ')}.</p>
      <Form.Group controlId="read-back">
        <Form.Label className="small mb-0">As they read it back</Form.Label>
        <Form.Control
          size="sm"
          className="mono"
          autoComplete="off"
          autoCapitalize="none"
          spellCheck={false}
          value={heard}
          isValid={done}
          isInvalid={wrong}
          onChange={(e) => setHeard(e.target.value)}
        />
      </Form.Group>
      <p className={wrong ? 'field-fault mb-1' : 'quiet small mb-1'} role="status">
        {said}
      </p>
      <p className="quiet small mb-0">It is shown only now; later it can be replaced, not read.</p>
    </section>
  );
}
