import type { AddressSheet, RemedyAct, VantageResult } from '@quay/contract';
import { STAGE_WORDS, VANTAGE_WORDS, type Remedy, type StageResult } from '@quay/core';
import { Button } from 'react-bootstrap';
import { CopyLine } from '../../../ui/copy';
import { useRemedy } from '../queries';
import { Order } from './order';
import './cause.scss';

const QUIET: Record<StageResult['mark'], string> = {
  ok: 'Passed.',
  skipped: 'Not needed from here.',
  'not-reached': 'Not reached: an earlier stage stops the way in.',
  warn: '',
  fail: '',
};

/** Why a stage is as it is, what mends it, and what was asked and answered. */
export function Cause({ address, from, stage }: { address: AddressSheet; from: VantageResult; stage: StageResult }) {
  const stops =
    stage.mark === 'fail'
      ? `${VANTAGE_WORDS[from.vantage]} stops at: ${STAGE_WORDS[stage.stage]}`
      : `${VANTAGE_WORDS[from.vantage]}: ${STAGE_WORDS[stage.stage]}`;
  return (
    <div className="two-columns cause">
      <section aria-live="polite">
        <h2 className="small-head">{stops}</h2>
        <p className="mb-2">{stage.reason || QUIET[stage.mark]}</p>
        {stage.remedies.length > 0 && (
          <ol className="remedies">
            {stage.remedies.map((r, i) => (
              <RemedyRow key={i} address={address} remedy={r} vantage={from.vantage} />
            ))}
          </ol>
        )}
      </section>
      <section>
        <h2 className="small-head">What was asked and answered</h2>
        <pre
          className={stage.mark === 'fail' ? 'exchange stopped' : 'exchange'}
          tabIndex={0}
          aria-label="What was asked and answered"
        >
          {from.exchange.join('\n')}
        </pre>
      </section>
    </div>
  );
}

function RemedyRow({
  address,
  remedy,
  vantage,
}: {
  address: AddressSheet;
  remedy: Remedy;
  vantage: VantageResult['vantage'];
}) {
  const { mutate, isPending } = useRemedy(address.id);
  const act = remedy.act as RemedyAct | null;
  const order = act === 'get-certificate' ? address.order : null;
  const isAtIt = isPending || (order !== null && order.failure === null);
  const value = act ? null : /: (.+)$/.exec(remedy.words)?.[1];
  return (
    <li>
      <span>{value ? remedy.words.slice(0, -value.length - 2) : remedy.words}</span>
      {value && <CopyLine value={value} label="value for the router" />}
      {act && (
        <Button size="sm" variant="plain" disabled={isAtIt} onClick={() => mutate({ act, vantage })}>
          {isAtIt ? 'At it …' : 'Do it'}
        </Button>
      )}
      {order && <Order order={order} />}
    </li>
  );
}
