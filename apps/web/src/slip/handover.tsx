import { telephoneSpelling } from '@quay/core';
import { Button, Form } from 'react-bootstrap';
import { useState } from 'react';
import { CopyLine } from '../ui/copy';
import { HandOvers } from '../ui/hand-over';
import { QrCode } from '../ui/qr';
import { ReachLamp } from '../ui/reach-lamp';
import { Sentence } from '../ui/words';
import { useSlip } from './store';
import './handover.scss';

/** What the slip becomes after publishing: link by one channel, password by another, each ticked off when done. */
export function Handover() {
  const { published, clear } = useSlip();
  const [done, setDone] = useState({ link: false, password: false });
  if (!published) return null;
  const { sheet, password } = published;
  return (
    <>
      <div className="slip-head">
        <h2>Hand over</h2>
        <span className="quiet text-truncate">{sheet.title}</span>
      </div>
      <div className="handover">
        <Sentence parts={sheet.sentence} />
        <section>
          <h3>The link</h3>
          <CopyLine value={sheet.link} label="link" />
          <ReachLamp mark={sheet.reach} portability={sheet.portability} />
          {sheet.portability && (
            <div className="field-advice">
              Works only inside the office: {sheet.portability} The address is{' '}
              <span className="mono">{sheet.address}</span>.
            </div>
          )}
          <div className="mt-2">
            <QrCode text={sheet.link} label={`QR code of the link to ${sheet.title}`} />
          </div>
          <Form.Check
            className="mt-2"
            id="link-done"
            label="The link is handed over"
            checked={done.link}
            onChange={(e) => setDone({ ...done, link: e.target.checked })}
          />
        </section>
        <HandOvers shareId={sheet.id} />
        {password !== null && (
          <section>
            <h3>The password, by another channel</h3>
            <CopyLine value={password} label="password" />
            <p className="quiet small mt-1 mb-1">On the telephone: {telephoneSpelling(password).join(', ')}.</p>
            <p className="quiet small mb-1">It is shown only now; later it can be replaced, not read.</p>
            <Form.Check
              id="password-done"
              label="The password is handed over"
              checked={done.password}
              onChange={(e) => setDone({ ...done, password: e.target.checked })}
            />
          </section>
        )}
        <div className="d-flex gap-2 mt-3">
          <Button onClick={clear}>Done</Button>
          <Button variant="plain" onClick={() => window.print()}>
            Print
          </Button>
        </div>
      </div>
    </>
  );
}
