import { useEffect } from 'react';
import { Button } from 'react-bootstrap';
import { CopyLine } from '../ui/copy';
import { HandOvers } from '../ui/hand-over';
import { useFresh } from '../ui/hand-over/fresh';
import { LinkPart } from '../ui/hand-over/link-part';
import { ReachLamp } from '../ui/reach-lamp';
import { Sentence } from '../ui/words';
import { useSlip } from './store';
import './handover.scss';

/** What the slip becomes after publishing: link by one channel, password by another. */
export function Handover() {
  const { published, clear } = useSlip();
  const keep = useFresh((s) => s.keep);
  useEffect(() => {
    if (published && published.password !== null) keep(published.sheet.id, published.password);
  }, [published, keep]);
  if (!published) return null;
  const { sheet } = published;
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
          <LinkPart share={sheet} isOpen />
        </section>
        <HandOvers share={sheet} />
        <div className="d-flex gap-2 mt-3">
          <Button onClick={clear}>Done</Button>
        </div>
      </div>
    </>
  );
}
